"""The Ports sheet: the USB tree as the kernel tells it, the rig's devices in it, and what to do about each."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QApplication, QFileDialog

from wyntaxis.core.evidence.ports.kind import PORTS as PORTS_READ
from wyntaxis.core.evidence.ports.match import match_devices
from wyntaxis.core.evidence.ports.tree import DEFAULT_ROOT, PortTree, read_ports
from wyntaxis.core.files.places import home
from wyntaxis.core.findings.finding import Finding
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.steps import PORTS, Step
from wyntaxis.core.wording import counted, short
from wyntaxis.core.worklist import findings_of
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.tables import TextTable

IN_THE_RIG = 7


@sheet_of(PORTS)
class PortsSheet(StepSheet):
    """What the kernel sees."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self.listed: list[Finding] = []
        column = self.add_wide_column()
        row = FlowRow()
        self.read_button = push_button("Read the ports", "Read this computer's USB tree from /sys", self.read, row)
        push_button("Other root …", "Read a copy of a sysfs from a folder", self.ask_root, row)
        push_button("Load simulated data", "Read the simulated tree that goes with the demo", self.read_simulated, row)
        self.forget_button = push_button(
            "Forget", "Leave the ports out again", lambda: session.look_at(PORTS_READ, None), row
        )
        column.addLayout(row)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        self.tree = TextTable(
            "USB tree",
            ("Port", "Device", "Vendor:product", "Serial number", "Mbit/s", "May sleep", "mA", "In the rig"),
            left=(0, 1, 2, 3, 5, 7),
            stretch=1,
        )
        column.addWidget(self.tree)
        self.serial = TextTable("Serial ports", ("Serial port", "Stable name"), left=(0, 1), stretch=1)
        column.addWidget(self.serial)
        self.findings = TextTable("What it means", ("What it means for the rig",), left=(0,))
        self.findings.itemSelectionChanged.connect(self._selected)
        column.addWidget(self.findings)
        self.rules = push_button(
            "Copy the remedies", "Copy every rule and parameter that the findings ask for", self.copy
        )
        row = FlowRow()
        row.addWidget(self.rules)
        column.addLayout(row)
        self.job = Job(self)
        self.job.done.connect(partial(session.look_at, PORTS_READ))
        self.job.failed.connect(session.refused)
        self.refresh()

    def read(self, root: Path = DEFAULT_ROOT) -> None:
        """Read the ports below a root in the background."""
        self.job.start(lambda _progress: read_ports(root))

    def ask_root(self) -> None:
        """Ask for the root of another tree and read it."""
        chosen = QFileDialog.getExistingDirectory(self, "Root of a sysfs", str(home()))
        if chosen:
            self.read(Path(chosen))

    def read_simulated(self) -> None:
        """Make the simulated tree of the demo in a temporary folder, and read it."""

        def work(_progress: object) -> PortTree:
            from wyntaxis.simulators.usb import make_demo_tree

            with tempfile.TemporaryDirectory() as folder:
                return replace(read_ports(make_demo_tree(Path(folder), "tarnfell")), root="the simulated tree")

        self.job.start(work)

    def refresh(self) -> None:
        super().refresh()
        tree, rig = self.session.evidence.of(PORTS_READ), self.session.rig
        self.listed = list(findings_of(self.session.evaluation, self.step))
        self.listed.sort(key=lambda f: -f.verdict.severity)
        for widget in (self.tree, self.serial):
            widget.setVisible(tree is not None)
        self.serial.setVisible(tree is not None and bool(tree.serial))
        self.forget_button.setEnabled(tree is not None)
        self.findings.setVisible(bool(self.listed))
        self.rules.setVisible(any(f.remedy.text for f in self.listed))
        self.findings.show_rows(
            [[f.title] for f in self.listed], verdicts=[f.verdict for f in self.listed], palette=self._palette
        )
        if tree is None:
            self.state.setText(
                "The ports have not been read. Reading looks at what the kernel says in /sys and changes nothing; each "
                "remedy is a text to copy."
            )
            return
        memory = tree.usbfs_memory_mb
        self.state.setText(
            f"{counted(len(tree.devices), 'device')} below {tree.root}; kernel's USB memory: "
            + ("not known" if memory is None else f"{memory} MB" if memory else "no limit")
            + "."
        )
        self._show_tree(tree)
        self.serial.show_rows(
            [[port.name, f"/dev/serial/by-id/{port.by_id}" if port.by_id else "–"] for port in tree.serial]
        )
        if not any(device.identity and device.identity.usb_id for device in rig.devices):
            self.state.setText(
                self.state.text() + " No device of the rig has a vendor:product yet: give it on the Devices sheet."
            )

    def _show_tree(self, tree: PortTree) -> None:
        ours = {m.usb.name: m.device for m in match_devices(self.session.rig, tree) if m.usb is not None}
        rows, marks, bold = [], {}, []
        for index, (depth, usb) in enumerate(tree.in_order()):
            device = ours.get(usb.name)
            rows.append(
                [
                    "   " * depth + usb.name,
                    usb.title,
                    usb.usb_id,
                    usb.serial_number or "–",
                    "–" if usb.speed_mbit is None else short(usb.speed_mbit),
                    {"auto": "yes", "on": "no"}.get(usb.control or "", "–"),
                    "–" if usb.max_power_ma is None else str(usb.max_power_ma),
                    device.title if device else "",
                ]
            )
            if device is not None:
                bold.append(index)
                about = [f.verdict for f in self.listed if f.subject == device.id]
                marks[index, IN_THE_RIG] = worst(about)
        self.tree.show_rows(rows, cell_verdicts=marks, palette=self._palette, bold=bold)

    def _selected(self) -> None:
        row = self.findings.currentRow()
        if 0 <= row < len(self.listed):
            self.session.choose_finding(self.listed[row])

    def copy(self) -> None:
        """Put every remedy on the clipboard, each under its finding."""
        clipboard = QApplication.clipboard()
        asked = [f for f in self.listed if f.remedy.text and f.verdict is not Verdict.HOLDS]
        if clipboard is not None:
            clipboard.setText("\n\n".join(f"# {f.title}\n{f.remedy.text}" for f in asked) + "\n")

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = palette
        self.refresh()
