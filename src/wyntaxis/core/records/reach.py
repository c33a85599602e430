"""Whether programs answer where the rig says that they do: a TCP connection to each stated host and port.

The only place that opens a socket, and only when it is asked to.
"""

from __future__ import annotations

import socket
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from wyntaxis.core.rig.programs import Program

LIMIT_S = 3.0


@dataclass(frozen=True)
class Reached:
    """Whether a program answered, and after how many s; ``why`` says why it did not."""

    program: Program
    reached: bool
    seconds: float | None = None
    why: str = ""


def reach(
    programs: Sequence[Program], limit_s: float = LIMIT_S, progress: Callable[[int, int], None] = lambda _a, _b: None
) -> tuple[Reached, ...]:
    """Try each program's host and port.

    Parameters
    ----------
    programs
        The rig's.
    limit_s
        How long to wait for each, in s.
    progress
        Told of programs tried and to try; may cancel.

    Returns
    -------
    tuple of Reached
        In the rig's order; one without host or port is not tried, and says so. Nothing is sent.
    """
    found = []
    for index, program in enumerate(programs):
        progress(index, len(programs))
        found.append(_tried(program, limit_s))
    return tuple(found)


def _tried(program: Program, limit_s: float) -> Reached:
    if program.host is None or program.port is None:
        lacks = " and ".join(
            f"no {key}" for key, own in (("host", program.host), ("port", program.port)) if own is None
        )
        return Reached(program, False, why=f"not tried: {lacks} stated")
    began = time.monotonic()
    try:
        with socket.create_connection((program.host, program.port), timeout=limit_s):
            return Reached(program, True, time.monotonic() - began)
    except TimeoutError:
        return Reached(program, False, why=f"no answer within {limit_s:g} s")
    except ConnectionRefusedError:
        return Reached(program, False, why="refused: nothing listens at this port")
    except (socket.gaierror, UnicodeError):
        return Reached(program, False, why="no computer of this name is known")
    except OSError as error:
        return Reached(program, False, why=(error.strerror or "not reached")[:80].lower())
