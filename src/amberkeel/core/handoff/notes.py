"""What a package says to the person who opens it: conventions, what formats cannot say, and the way out of it."""

from amberkeel.core.handoff.prove import Proof
from amberkeel.core.handoff.recipient import Recipient
from amberkeel.core.handoff.scene import Scene
from amberkeel.core.handoff.writers.base import (
    CAMERA,
    DISTORTION,
    POINTS,
    READOUT,
    SHIFT,
    ZOOM,
    Convention,
    Writer,
    departure,
)

SEEN_PX = 0.005
"""Pixels below which what a format cannot say makes no difference."""

WAYS_OUT = {
    DISTORTION: "holds no lens distortion, which moves the picture by up to {px:.1f} px: put it on the straightened "
    "plate, or bend the result with the ST maps",
    ZOOM: "holds one focal length, the middle one; the zoom moves the picture's corners by up to {px:.1f} px: take the "
    "focal length of each frame from a table (csv)",
    SHIFT: "has its optical axis in the picture's middle; the lens's lies {px:.2f} px away: choose a centred canvas, "
    "or shift the picture back by that",
}


def lacking(scene: Scene, writer: Writer) -> list[str]:
    """Return what a format cannot say of a scene, and the usual way out, in sentences; none where it says all.

    Parameters
    ----------
    scene : that leaves. writer : of the format.
    """
    out = []
    for what, words in WAYS_OUT.items():
        px = departure(scene, writer.lacks, what)
        if px > SEEN_PX:
            out.append(f"{writer.key} {words.format(px=px)}.")
    if READOUT in writer.lacks and any(one.path.readout for one in scene.cameras) and CAMERA not in writer.lacks:
        out.append(
            f"{writer.key} holds no rolling shutter: its camera is the middle row's. Use plates with rows upright."
        )
    if POINTS in writer.lacks and len(scene.points.names):
        out.append(f"{writer.key} holds the camera alone, without points.")
    if CAMERA in writer.lacks:
        out.append(f"{writer.key} holds points and meshes, no camera.")
    return out


def convention_words(convention: Convention, writer: Writer, metric: bool) -> str:
    """Return in which units and axes a format was written, as a sentence.

    Parameters
    ----------
    convention : in which it was written. writer : of the format. metric : whether the scene has a scale.
    """
    unit = f"1 unit is {convention.unit_m:g} m" if metric else "no scale was stated: units are the solve's own"
    hand = "left-handed, X mirrored" if convention.left_handed else "right-handed"
    offset = f", frame numbers {convention.offset:+d}" if convention.offset else ", the plate's own frame numbers"
    return f"{writer.key}: {unit}, {convention.up.upper()} up, {hand}{offset}."


def readme(
    scene: Scene, recipient: Recipient, version: int, lines: list[str], proofs: list[Proof], reason: str = ""
) -> str:
    """Return the text for the person who opens a package.

    Parameters
    ----------
    scene : that was written. recipient : for whom. version : of the package. lines : conventions, and what formats
        cannot say. proofs : of its formats. reason : why it left although a proof does not hold.
    """
    first, last = scene.frames
    out = [
        f"{scene.name}, version {version}, for {recipient.name}", "",
        f"Frames {first + recipient.frame_offset} to {last + recipient.frame_offset} at {scene.fps} a second.",
    ]  # fmt: skip
    for one in scene.cameras:
        lens = one.path.lens
        focal = f"{one.focal_mm(0):.3f} mm" if one.path.zoom is None else "zooming"
        plate = f"{lens.width} x {lens.height} px, {one.wide_mm:.4f} x {one.high_mm:.4f} mm"
        canvas = "" if one.canvas is None else f"; the filmed picture lies at {one.canvas.left}, {one.canvas.top} in it"
        out.append(f"Camera {one.name}: {focal}, picture {plate}{canvas}. Plate: {one.plate}.")
    out += ["", "How to read it", *(f"- {line}" for line in lines), "", "Read back and checked"]
    for proof in proofs:
        seen = "no camera in it" if proof.px != proof.px else f"{proof.px:.4f} px at the most"
        state = "holds" if proof.holds else "DOES NOT HOLD " + " ".join(proof.trouble)
        out.append(f"- {proof.format}: {seen}, {proof.units:.2g} units, {state}")
    if reason:
        out += ["", f"It left although a check does not hold: {reason}"]
    return "\n".join(out) + "\n"
