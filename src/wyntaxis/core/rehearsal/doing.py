"""What a piece of a simulated night is: a process that waits for events and returns something when it is done."""

from __future__ import annotations

from collections.abc import Generator
from typing import Any, TypeVar

import simpy

T = TypeVar("T")
Doing = Generator[simpy.Event, Any, T]
