"""Tables in text files: which sign separates the cells."""

from __future__ import annotations

import csv
import io

SEPARATORS = ",;\t|"


def separator_of(text: str, among: str = SEPARATORS) -> str:
    """Return the sign that separates cells: the one that the first line with anything in it holds most often."""
    first = next((line for line in text.splitlines() if line.strip()), "")
    return max(among, key=first.count)


def table_rows(text: str) -> list[list[str]]:
    """Return the rows of a CSV text that hold anything, whatever separates their cells; csv.Error for broken ones."""
    reader = csv.reader(io.StringIO(text), delimiter=separator_of(text))
    return [row for row in reader if any(cell.strip() for cell in row)]
