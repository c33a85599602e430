"""The demo's bench: the frames and cooling runs of the simulated camera that stands in for the Pellucid Grand."""

from __future__ import annotations

from pathlib import Path

from wyntaxis.simulators.camera import BenchSession, SimulatedCamera, cooling_csv, cooling_run, make_bench

DEMO_CAMERA = SimulatedCamera(
    width=384,
    height=256,
    read_noise_e=2.7,
    converter_noise_adu=1.2,
    dark_e_s=0.007,
    glow_e_s=0.002,
    pattern=0.012,
    hot_share=2e-3,
    seed=2026,
)
DEMO_GAINS = (0.0, 125.0, 170.0)
SETPOINT_C, OFFSET = -8.0, 36.0


def make_demo_bench(folder: Path) -> None:
    """Write the demo's bench frames: crops of the sensor, with one light of the sky and one dark that saw light."""
    make_bench(DEMO_CAMERA, folder, DEMO_GAINS, exposure_s=240.0, setpoint_c=SETPOINT_C, offset=OFFSET)
    usual = {"offset": OFFSET, "temperature_c": SETPOINT_C}
    more = BenchSession(DEMO_CAMERA, folder, made=900)
    for name, sky in (("L", 1.6), ("Ha", 0.05)):
        more.add("light", 2, gain=125.0, exposure_s=120.0, light_e_s=sky, filter=name, **usual)
    more.add("dark", 1, gain=170.0, exposure_s=240.0, light_e_s=0.5, **usual)


def make_demo_lights(folder: Path) -> None:
    """Write lights of the demo's rig as its capture program would; all that a draft needs but the aperture is told."""
    session = BenchSession(DEMO_CAMERA, folder, made=2000)
    cards = {"TELESCOP": "Aldous 104", "FOCALLEN": 513.8, "XPIXSZ": 3.9, "SITELAT": 47.3, "SITELONG": 11.1}
    for name in ("L", "R", "G", "B", "Ha", "OIII"):
        focus = {"FOCUSPOS": 12900}
        session.add(
            "light", 2, gain=125.0, exposure_s=240.0, light_e_s=0.8, filter=name, cards=cards | focus,
            offset=OFFSET, temperature_c=SETPOINT_C,
        )  # fmt: skip


def make_demo_runs(folder: Path) -> list[Path]:
    """Write the demo's cooling runs: at full power, in one go, and by a ramp; return their paths."""
    runs = {
        "full power": cooling_run(DEMO_CAMERA, ambient_c=17.5, target_c=SETPOINT_C, full_power=True, number=1),
        "in one go": cooling_run(DEMO_CAMERA, ambient_c=19.0, target_c=-8, number=2),
        "ramp 2.5 a minute": cooling_run(DEMO_CAMERA, ambient_c=18.0, target_c=-8, ramp_c_min=2.5, number=3),
    }
    paths = []
    for name, rows in runs.items():
        path = folder / f"{name}.csv"
        path.write_text(cooling_csv(rows), "utf-8")
        paths.append(path)
    return paths
