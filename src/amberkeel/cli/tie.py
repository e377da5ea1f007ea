"""`keel tie`: a plate followed, solved and brought into a set's world."""

import json
from pathlib import Path

import click

from amberkeel.cli.shared import Bar, encoding_option, fail, frame_range
from amberkeel.core.errors import KeelError
from amberkeel.core.handoff.wording import checked


@click.command()
@click.argument("plate")
@click.option("--set", "set_file", required=True, type=click.Path(path_type=Path), help="set.json (keel set).")
@click.option("--by", type=click.Choice(["either", "tags", "pictures"]), default="either")
@click.option("--exact", is_flag=True, help="Hold the set's points exactly instead of within their sigmas.")
@click.option("--frames", callback=frame_range, help="First and last frame, as 1001-1072.")
@click.option("--mattes", default=None, help="Matte sequence; white is ignored.")
@click.option("--lens", default=None, type=click.Path(), help="Lens profile (JSON) whose distortion is held.")
@click.option("--sensor-width", "sensor_width_mm", type=click.FloatRange(1.0, 200.0), default=None)
@click.option("--focal", "focal_mm", type=click.FloatRange(1.0, 5000.0), default=None, help="Known focal length in mm.")
@click.option("--fps", default=None, help="Frame rate, as 24 or 24000/1001.")
@encoding_option
@click.option("--seed", type=int, default=0, help="Of every random choice.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for solve.json and tie.json.")
def tie(out, set_file, by, exact, **asked) -> None:
    """Follow PLATE, solve it, and bring it into the world of a set."""
    from amberkeel.core.solve_plate import SolveOrder
    from amberkeel.core.ties.tie_plate import TieOrder, tie_plate

    try:
        with Bar() as report:
            files = tie_plate(TieOrder(SolveOrder(**asked), set_file, by, exact), report)
        out.mkdir(parents=True, exist_ok=True)
        for name, text in files.items():
            (out / name).write_text(text)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    for line in said(json.loads(files["tie.json"])):
        click.echo(line)
    click.echo(f"Written to {out}.")


def said(report: dict) -> list[str]:
    """Return what is told of a plate tied to a set, line by line."""
    ties, rms, check = report["ties"], report["rms_px"], report["check_rms_px"]
    used = sum(not one["wrong"] for one in ties)
    lines = [
        f"Tied to {report['set']} by {report['by']}: {len(ties)} ties, {used} of them used, "
        f"{report['rms']:.4g} {report['unit']} RMS off.",
        f"Residual {rms['before']:.3f} px alone, {rms['after']:.3f} px tied; check residual "
        f"{checked(check['before'])} and {checked(check['after'])}.",
    ]
    for one in sorted(ties, key=lambda one: -one["off"])[:8]:
        px = "" if one["off_px"] is None else f", {one['off_px']:.2f} px"
        lines.append(f"  {one['name']:24s} {one['off']:.4g} off{px}{'  wrong' if one['wrong'] else ''}")
    lines += [f"  {one['name']} pulls: {one['px']:.1f} px" for one in report["pulls"]]
    return lines + report["notes"]
