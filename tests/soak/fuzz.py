"""Gives hostile inputs to the readers, each in a process of bounded memory and time; keeps what failed."""

from __future__ import annotations

import multiprocessing
import os
import resource
import shutil
import tempfile
import time
import traceback
from collections import Counter
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from pathlib import Path
from random import Random

SECONDS_EACH = 12.0
"""No single input may take longer, on a slow machine too."""
MEMORY_BYTES = 4 << 30
STEP = 20


@dataclass
class Tried:
    """How many inputs each reader was given, and what failed: reader, seed, and what happened."""

    count: Counter[str] = field(default_factory=Counter)
    failures: list[tuple[str, int, str]] = field(default_factory=list)

    @property
    def total(self) -> int:
        """All inputs together."""
        return sum(self.count.values())


def _work(pipe: Connection, home: str) -> None:
    """Try inputs as they are asked for: (reader's number, first seed, how many, folder for each)."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    os.environ.update({f"XDG_{kind}_HOME": home for kind in ("DATA", "STATE", "CONFIG")})
    import json

    from tests.soak.readers import MAPS, readers

    Path(home, "wyntaxis").mkdir(parents=True, exist_ok=True)
    Path(home, "wyntaxis", "key-maps.json").write_text(json.dumps(MAPS), "utf-8")
    known = readers()
    pipe.send([reader.name for reader in known])
    while True:
        number, seed = pipe.recv()
        reader, folder = known[number], Path(home, "in")
        shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir()
        fault = ""
        try:
            reader.check(reader.make(folder, Random(seed)))
        except BaseException:
            fault = traceback.format_exc()
        pipe.send(fault)


def _started() -> tuple[multiprocessing.process.BaseProcess, Connection, str, list[str]]:
    context = multiprocessing.get_context("spawn")
    ours, theirs = context.Pipe()
    home = tempfile.mkdtemp(prefix="wyntaxis-soak-")
    process = context.Process(target=_work, args=(theirs, home), daemon=True)
    process.start()
    return process, ours, home, ours.recv()


def fuzz(seconds: float, first_seed: int, keep: Path | None = None, most: int | None = None) -> Tried:
    """Try hostile inputs on every reader in turn, for a time or up to a number; failing inputs are kept in a folder."""
    tried, until = Tried(), time.monotonic() + seconds
    process, pipe, home, names = _started()
    seed = first_seed
    try:
        while time.monotonic() < until and (most is None or tried.total < most):
            for number, name in enumerate(names):
                pipe.send((number, seed))
                tried.count[name] += 1
                fault = _answer(pipe)
                if fault:
                    tried.failures.append((name, seed, fault))
                    if keep is not None:
                        _keep(Path(home, "in"), keep / f"{name.replace(' ', '-')}-{seed}", fault)
                if fault is None or not process.is_alive():
                    tried.failures.append((name, seed, f"no answer within {SECONDS_EACH:g} s, or the process died"))
                    if keep is not None:
                        _keep(Path(home, "in"), keep / f"{name.replace(' ', '-')}-{seed}", "hang")
                    process.kill()
                    process.join()
                    shutil.rmtree(home, ignore_errors=True)
                    process, pipe, home, names = _started()
                if most is not None and tried.total >= most:
                    break
            seed += 1
    finally:
        process.kill()
        process.join()
        shutil.rmtree(home, ignore_errors=True)
    return tried


def _answer(pipe: Connection) -> str | None:
    """Return what a trial came to: empty where all was well, None where no answer came."""
    try:
        return pipe.recv() if pipe.poll(SECONDS_EACH) else None
    except (EOFError, OSError):
        return None


def _keep(folder: Path, place: Path, fault: str) -> None:
    place.parent.mkdir(parents=True, exist_ok=True)
    shutil.rmtree(place, ignore_errors=True)
    shutil.copytree(folder, place, symlinks=True, copy_function=_copy)
    (place / "FAULT.txt").write_text(fault, "utf-8", errors="backslashreplace")


def _copy(source: str, to: str) -> str:
    return to if not Path(source).is_file() else shutil.copy2(source, to)
