"""Tables in text files: which sign separates the cells."""

from __future__ import annotations

import csv
import io
import itertools

SEPARATORS = ",;\t|"


def separator_of(text: str, among: str = SEPARATORS) -> str:
    """Return the sign that separates cells: the one that the first line with anything in it holds most often."""
    first = next((line for line in io.StringIO(text) if line.strip()), "")
    return max(among, key=first.count)


def table_rows(text: str, most: int) -> list[list[str]]:
    """Return the first rows of a CSV text that hold anything, whatever separates their cells.

    Raises
    ------
    csv.Error
        When it is broken.
    """
    reader = csv.reader(io.StringIO(text), delimiter=separator_of(text))
    return list(itertools.islice((row for row in reader if any(cell.strip() for cell in row)), most))
