"""Many nights on several processors."""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, as_completed

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rehearsal.play import NIGHTS_A_CHUNK, ManyNights, many_nights, some_nights, summed
from wyntaxis.core.rehearsal.setting import NightSetting

MAX_NIGHTS = 100_000


def many_nights_in_parallel(
    setting: NightSetting,
    nights: int,
    seed: int = 1,
    progress: Callable[[int, int], None] = lambda _a, _b: None,
) -> ManyNights:
    """Return what :func:`~wyntaxis.core.rehearsal.play.many_nights` does, the nights shared among the processors.

    Raises
    ------
    InputError
        For no night, or too many.
    """
    if not 1 <= nights <= MAX_NIGHTS:
        raise InputError(f"--nights: must be 1 to {MAX_NIGHTS}, got {nights}")
    if not 0 <= seed < 2**63:
        raise InputError(f"--seed: must be a whole number from 0 on, got {seed}")
    if nights <= NIGHTS_A_CHUNK or (os.cpu_count() or 1) < 2:
        return many_nights(setting, nights, seed, progress)
    jobs = [(setting, seed, first, min(first + NIGHTS_A_CHUNK, nights)) for first in range(0, nights, NIGHTS_A_CHUNK)]
    entries: dict[int, list[tuple[float, bool, bool, tuple[str, ...]]]] = {}
    # Processes of their own from scratch: the window's threads would not survive a fork.
    with ProcessPoolExecutor(mp_context=multiprocessing.get_context("spawn")) as pool:
        waiting = {pool.submit(some_nights, job): job[2] for job in jobs}
        try:
            for done in as_completed(waiting):
                entries[waiting[done]] = done.result()
                progress(min(len(entries) * NIGHTS_A_CHUNK, nights), nights)
        except BaseException:
            pool.shutdown(cancel_futures=True)
            raise
    return summed([night for first in sorted(entries) for night in entries[first]])
