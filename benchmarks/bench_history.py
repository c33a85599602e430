"""Opening a thousand saves' history and rebuilding its rigs, beside reading as many lines of JSON alone."""

import json
import statistics
import sys
import tempfile
import time
from pathlib import Path

from wyntaxis import demo
from wyntaxis.core.history.entries import Entry, digest, history_path
from wyntaxis.core.history.recording import CHECKPOINT
from wyntaxis.core.history.states import patch_between, read_history
from wyntaxis.core.rig.store import document_of, load

SAVES, REPEATS = 1000, 7
MAX_OPEN_S = 0.5


def written(path: Path) -> None:
    """Write a history of so many saves of the demo rig, its gain and a length changed in turn."""
    document = document_of(load(demo.rig_path("tarnfell-triplet-reduced")).rig)
    before, lines = None, []
    for index in range(SAVES):
        after = json.loads(json.dumps(document))
        after["devices"][0]["settings"]["gain"]["value"] = 100 + index % 60
        after["train"][3]["length_mm"] = 12 + index % 7 / 10
        patch = patch_between(before, after) if before is not None else None
        whole = after if index % CHECKPOINT == 0 else None
        was = digest(before) if before is not None else None
        date = f"2026-{1 + index // 90:02d}-01T00:{index // 60 % 60:02d}:{index % 60:02d}Z"
        lines.append(Entry(date, ("Gain",), digest(after), was, None, None, patch, whole).as_line())
        before = after
    history_path(path).write_bytes(b"".join(lines))


def median_s(work) -> float:
    """Return the median time of some repeats, in s."""
    reported = []
    for _ in range(REPEATS):
        start = time.perf_counter()
        work()
        reported.append(time.perf_counter() - start)
    return statistics.median(reported)


def main() -> int:
    """Print the times; return 1 where opening takes too long."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.rig.json"
        written(path)
        place = history_path(path)
        opened = median_s(lambda: read_history(path))
        alone = median_s(lambda: [json.loads(line) for line in place.read_bytes().splitlines()])
        history = read_history(path)
        rebuilt = median_s(lambda: history.document_at(SAVES // 2 + CHECKPOINT - 2))
        size = place.stat().st_size / 1e6
    print(f"{SAVES} saves, {size:.1f} MB: opened in {1000 * opened:.0f} ms; JSON alone {1000 * alone:.0f} ms")
    print(f"ratio {opened / alone:.2f}; a rig in their midst rebuilt in {1000 * rebuilt:.1f} ms")
    return 1 if opened > MAX_OPEN_S else 0


if __name__ == "__main__":
    sys.exit(main())
