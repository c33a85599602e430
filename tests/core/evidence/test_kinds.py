"""Each kind of evidence reads, measures and is kept, and the evidence holds one result of each."""

from pathlib import Path

import pytest

from tests.rigs import clean_document, clean_tree
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.cooling.kind import COOLING, target_of
from wyntaxis.core.evidence.headers.kind import HEADERS
from wyntaxis.core.evidence.kinds import Evidence
from wyntaxis.core.evidence.ports.kind import PORTS
from wyntaxis.core.evidence.sensor.kind import SENSOR
from wyntaxis.core.files.errors import CancelledError, InputError
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.store import validated
from wyntaxis.simulators.bench import make_demo_runs
from wyntaxis.simulators.usb import make_tree


@pytest.fixture(scope="module")
def rig():
    return validated(clean_document())


def test_evidence_holds_one_result_of_each_kind(rig, tmp_path):
    tree = PORTS.read(make_tree(tmp_path / "root", clean_tree(), usbfs_memory_mb=256))
    held = Evidence().having(PORTS, tree)
    assert held.of(PORTS) is tree
    assert held.of(HEADERS) is None
    assert held.having(PORTS, None).of(PORTS) is None
    links = PORTS.measures(rig, tree)
    assert set(links) == {"main.link_mbit", "guide.link_mbit"}
    rows = evaluate(rig, held).rows
    assert {key: rows[key].measured.value for key in links} == {key: found.value for key, found in links.items()}
    assert PORTS.keeping is None, "what the kernel says is read again each time"


def test_cooling_runs_are_read_measured_and_kept(rig, tmp_path):
    paths = make_demo_runs(tmp_path)
    assert target_of(rig) == -10
    cooled = COOLING.read(paths[:2], -10.0)
    more = COOLING.read(paths[1:], -10.0, before=cooled)
    assert len(more.logs) == len(paths), "a run read again stands in the place of the old one"
    assert len(more.without(0, -10.0).logs) == len(paths) - 1
    proves = COOLING.measures(rig, more)
    kept = edit.apply(rig, COOLING.keep(rig, more)).devices[0]
    for key, found in proves.items():
        assert kept.measured(key.removeprefix("main.")).value == pytest.approx(found.value, rel=1e-4)
    with pytest.raises(CancelledError):
        COOLING.read(paths, -10.0, _cancelled)
    bare = edit.apply(rig, edit.Change.of("No devices", ("devices",), None))
    assert COOLING.measures(bare, more) == {}


def _cancelled(_done, _of):
    raise CancelledError


@pytest.mark.parametrize("kind", [HEADERS, SENSOR])
def test_a_folder_that_is_not_there_is_one_line(rig, kind):
    arguments = (rig,) if kind is SENSOR else ()
    with pytest.raises(InputError, match=r"not there|missing|no such"):
        kind.read(Path("/nowhere/at/all"), *arguments)
