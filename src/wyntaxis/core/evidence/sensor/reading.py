"""The reading of a bench's files: jobs in two threads, with progress, and an end when that is asked for."""

from __future__ import annotations

import warnings
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from wyntaxis.core.files.errors import CancelledError, InputError, Progress

THREADS = 2


@dataclass
class Reading:
    """The reading of files: jobs run in two threads, progress after each, an end when progress raises."""

    folder: Path
    progress: Progress
    done: int = 0
    of: int = 0
    ended: bool = False

    def watch(self) -> None:
        """Raise :class:`CancelledError` where the reading was ended meanwhile."""
        if self.ended:
            raise CancelledError

    def run(self, jobs: Sequence[Callable[[], Any]]) -> list[Any]:
        """Run jobs and return what they gave, in order; an :class:`InputError` stands for a job that failed."""
        results: list[Any] = [None] * len(jobs)
        # Set here and not in each job: filters of warnings are one for all threads.
        with warnings.catch_warnings(), ThreadPoolExecutor(THREADS) as pool:
            warnings.simplefilter("ignore")
            waiting: dict[Future[Any], int] = {pool.submit(job): index for index, job in enumerate(jobs)}
            try:
                while waiting:
                    self.progress(self.done, self.of)
                    finished, _ = wait(waiting, timeout=0.1, return_when=FIRST_COMPLETED)
                    for future in finished:
                        index = waiting.pop(future)
                        error = future.exception()
                        if error is not None and not isinstance(error, InputError):
                            raise error
                        results[index] = error if error is not None else future.result()
                        self.done += 1
            except BaseException:
                self.ended = True
                pool.shutdown(wait=False, cancel_futures=True)
                raise
        return results
