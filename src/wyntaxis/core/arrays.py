"""The kinds of arrays that measurements and optics pass on."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]
Ints = NDArray[np.int64]
Numbers = NDArray[np.number[Any]]
"""Of any kind of number: pixels as a file holds them, and means of them in single precision."""
