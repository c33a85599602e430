"""Tables in text files: which sign separates the cells."""

from __future__ import annotations

import csv
import io

SEPARATORS = ",;\t|"


def separator_of(text: str, among: str = SEPARATORS) -> str:
    """Return the sign that separates cells: the one that the first line with anything in it holds most often."""
    first = next((line for line in io.StringIO(text) if line.strip()), "")
    return max(among, key=first.count)


def table_rows(text: str, most: int, most_cells: int) -> list[list[str]]:
    """Return the first rows of a CSV text that hold anything, and so many cells at most, whatever separates them.

    Raises
    ------
    csv.Error
        When it is broken.
    """
    reader = csv.reader(io.StringIO(text), delimiter=separator_of(text))
    rows: list[list[str]] = []
    cells = 0
    for row in reader:
        if any(cell.strip() for cell in row):
            rows.append(row)
            cells += len(row)
            if len(rows) >= most or cells > most_cells:
                break
    return rows
