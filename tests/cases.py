"""Further cases of a law, which ``make test-all`` tries besides those of ``make test``."""

import pytest


def further(*cases):
    """Return parameters of a test that are left out but for ``--thorough``."""
    return [pytest.param(*(case if isinstance(case, tuple) else (case,)), marks=pytest.mark.thorough) for case in cases]
