"""Entries of the guide for what the application declares: numbers, findings and settings, under their own names.

A page holds ``{number} id``, ``{finding} id`` or ``{setting} key`` with the words about it; label, unit, step and
condition are read off the declaration. After the build, ``search.json`` holds every section's words for the window.
"""

from __future__ import annotations

import inspect
import json
from functools import lru_cache
from pathlib import Path
from typing import Any

from docutils import nodes
from docutils.statemachine import StringList
from sphinx.util.docutils import SphinxDirective

from wyntaxis.core.findings import registry
from wyntaxis.core.quantities import evaluator, rows
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rehearsal.faults import FAULTS
from wyntaxis.core.rehearsal.remedy import words_of
from wyntaxis.core.rig.device_kinds.declaration import Fault
from wyntaxis.core.rig.device_settings import SETTINGS


@lru_cache(maxsize=1)
def numbers() -> dict[str, tuple[str, str, Any]]:
    """Return label, unit and step of every number: the rig's own by id, those of each of several things by key."""
    evaluator.import_all()
    found = {one.key: (one.label, one.unit, one.step) for one in rows.declared_numbers()}
    return found | {kind.id: (kind.label, kind.unit, kind.step) for kind in QUANTITY_KINDS.values()}


def question_of(finding_id: str) -> str:
    """Return what a finding asks or does, as its function says it."""
    function = registry.declared(finding_id).function
    doc = "" if hasattr(function, "func") else inspect.getdoc(function) or ""
    return doc.split("\n")[0]


class Entry(SphinxDirective):
    """One declared thing: a section under its own name, with the words that stand in the page."""

    required_arguments = 1
    has_content = True
    kind = ""

    def about(self, key: str) -> tuple[str, str]:
        """Return the title and the line below it."""
        raise NotImplementedError

    def run(self) -> list[nodes.Node]:
        key = self.arguments[0]
        try:
            title, below = self.about(key)
        except KeyError:
            raise self.error(f"no {self.kind} is called {key}") from None
        section = nodes.section(ids=[f"{self.kind}.{key}"], names=[f"{self.kind}.{key}"])
        section += nodes.title(title, title)
        if below:
            section += nodes.paragraph("", "", nodes.emphasis(below, below))
        self.state.nested_parse(self.content, self.content_offset, section, match_titles=False)
        return [section]


class NumberEntry(Entry):
    """A number of the ledger."""

    kind = "number"

    def about(self, key: str) -> tuple[str, str]:
        label, unit, step = numbers()[key]
        return f"{label}, {unit}" if unit else label, f"{step.title}. In JSON: {key}" if step else key


class FindingEntry(Entry):
    """A finding."""

    kind = "finding"

    def about(self, key: str) -> tuple[str, str]:
        own = registry.declared(key)
        condition = f"; a condition of the night: {own.proves.condition.title}" if own.proves is not None else ""
        return key, f"{question_of(key)} Told at {own.step.title}{condition}.".strip()


class SettingEntry(Entry):
    """A setting of a device."""

    kind = "setting"

    def about(self, key: str) -> tuple[str, str]:
        kind = SETTINGS[key]
        devices = ", ".join(sorted(kind.kinds)).replace("_", " ")
        return f"{kind.label}, {kind.unit}" if kind.unit else kind.label, f"Of: {devices}. In the file: {key}"


class FaultTable(SphinxDirective):
    """Every fault of the rehearsal: what is seen, when it strikes, what ends it, and what helps."""

    def run(self) -> list[nodes.Node]:
        lines = ["| fault | what is seen | strikes | nights in 100 | ends | what helps |", "|---|---|---|---|---|---|"]
        for fault in FAULTS.values():
            cells = (
                f"{fault.title} (`{fault.id}`)", fault.shows, MOMENTS[fault.when], f"{fault.rate:g}", ending_of(fault),
                words_of(fault) or "limits, attempts and watching in the plan",
            )  # fmt: skip
            lines.append(f"| {' | '.join(cells)} |")
        holder = nodes.section()
        self.state.nested_parse(StringList(lines, source="faults"), self.content_offset, holder)
        return list(holder.children)


MOMENTS = {
    "begin": "at the beginning", "dark": "when it is dark", "middle": "in mid-run", "flip": "at the flip",
    "end": "at the end",
}  # fmt: skip


def ending_of(fault: Fault) -> str:
    """Return in words what ends a fault."""
    ways = [f"by itself after {fault.lasts_s / 60:.0f} min"] if fault.lasts_s is not None else []
    ways += {"attempt": ["at another attempt"], "reconnect": ["when it is reconnected"], "never": []}[fault.clears]
    ways += [f"by {fault.cure.replace('_', ' ')}"] if fault.cure else []
    text = ", or ".join(ways) or "not in this night"
    return f"{text}; returns {fault.returns_s / 60:.0f} min later" if fault.returns_s is not None else text


def _write_search(app: Any, error: Exception | None) -> None:
    """Write the words of every section, with page and place, for the window's own search."""
    if error is not None or app.builder.name != "html":
        return
    found = []
    for name in sorted(app.env.found_docs):
        tree = app.env.get_doctree(name)
        for section in tree.findall(nodes.section):
            title = section.next_node(nodes.title)
            own = [child.astext() for child in section.children if not isinstance(child, (nodes.section, nodes.title))]
            words = " ".join(" ".join(own).split())
            place = section["ids"][0] if section.get("ids") else ""
            found.append({"page": name, "place": place, "title": title.astext() if title else name, "words": words})
    (Path(app.outdir) / "search.json").write_text(json.dumps(found, ensure_ascii=False, indent=0), "utf-8")


def setup(app: Any) -> dict[str, bool]:
    """Add the directives, and what follows the build."""
    app.add_directive("faults", FaultTable)
    for entry in (NumberEntry, FindingEntry, SettingEntry):
        app.add_directive(entry.kind, entry)
    app.connect("build-finished", _write_search)
    return {"parallel_read_safe": True}
