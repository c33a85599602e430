"""The whole travel of a drawtube as a drawing shows it: what the motor covers, where focus lies, what is left."""

from __future__ import annotations

from dataclasses import dataclass

from wyntaxis.core.quantities.focus_runs import Travel, travels
from wyntaxis.core.quantities.focuser import focusers, travel_of
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.wording import number, short

MIDDLE_SHARE = 0.15
"""A counter whose working position lies within this share of its range about the middle was set to its middle."""


@dataclass(frozen=True)
class TravelPicture:
    """A drawtube's travel, in mm from its inner end, and the counter's range in it, in steps.

    ``whole_mm`` is that of the drawtube, ``motor_mm`` where the motor's range lies in it; without a stated travel of
    the drawtube the motor's range is all. ``span`` is what temperature and filters need, in steps, where that is known.
    """

    title: str
    low: float
    high: float
    step_um: float | None
    whole_mm: float | None
    motor_mm: tuple[float, float] | None
    position: float | None
    best: float | None
    span: tuple[float, float] | None
    outward: bool

    def share(self, steps: float) -> float:
        """Return where a position lies in the counter's range, from 0 to 1."""
        return (steps - self.low) / (self.high - self.low)

    @property
    def working(self) -> float | None:
        """The position to draw as the working one: as measured, else as stated."""
        return self.best if self.best is not None else self.position

    @property
    def words(self) -> tuple[str, ...]:
        """What the drawing says, a line each, for those who hear it."""
        unit = "" if self.step_um is None else f", {number((self.high - self.low) * self.step_um / 1000, 1)} mm"
        lines = [f"counter {short(self.low)} to {short(self.high)} steps{unit}"]
        if self.whole_mm is not None and self.motor_mm is not None:
            share = 100 * (self.motor_mm[1] - self.motor_mm[0]) / self.whole_mm
            whole = short(self.whole_mm)
            lines.append(f"the motor covers {number(share, 0)} % of the drawtube's {whole} mm (hatched: by hand)")
        at = self.working
        if at is not None:
            middle = abs(self.share(at) - 0.5) <= MIDDLE_SHARE
            lines.append(
                f"works at {number(at, 0)}, {number(100 * self.share(at), 0)} %: "
                + ("the counter is set to its middle" if middle else "the counter is not set to its middle")
            )
        if self.span is not None:
            left = (self.span[0] - self.low, self.high - self.span[1])
            lines.append(
                f"a year's temperatures and the filters need {number(self.span[0], 0)} to {number(self.span[1], 0)}, "
                f"which leaves {number(left[0], 0)} inward and {number(left[1], 0)} outward"
            )
        else:
            lines.append("what temperature and filters need is not measured yet")
        lines.append(f"the counter rises {'outward' if self.outward else 'inward'}")
        return tuple(lines)


def travel_pictures(numbers: Numbers) -> list[TravelPicture]:
    """Return the drawing of each focuser whose ends are stated.

    Returns
    -------
    list[TravelPicture]
        In the order of the devices.
    """
    spans = {travel.device.id: travel for travel in travels(numbers)}
    return [_picture(device, ends, spans.get(device.id)) for device in focusers(numbers) if (ends := travel_of(device))]


def _picture(device: Device, ends: tuple[float, float], travel: Travel | None) -> TravelPicture:
    step, whole, at = device.number("step_um"), device.number("travel_mm"), device.number("position")
    motor = None
    if whole is not None and step is not None:
        long = min((ends[1] - ends[0]) * step / 1000, whole)
        # Where the motor's range lies in the tube's travel nobody states: drawn in the middle.
        motor = ((whole - long) / 2, (whole + long) / 2)
    known = travel is not None and (travel.season_steps or any(travel.filters_steps))
    found = device.measured("position")
    return TravelPicture(
        device.title,
        *ends,
        step,
        whole,
        motor,
        at,
        found.value if found is not None else None,
        travel.span if known and travel is not None else None,
        outward=not device.truth("reversed"),
    )
