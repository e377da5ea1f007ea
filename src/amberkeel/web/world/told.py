"""What a shot's datum is said to be: figures and sentences for the page."""

import math
from dataclasses import asdict
from fractions import Fraction

from amberkeel.core.camera import CameraPath
from amberkeel.core.world.datum import Found
from amberkeel.core.world.facts import camera_facts
from amberkeel.store.models import Shot


def _figure(value: float, digits: int = 6) -> float | None:
    return round(float(value), digits) if math.isfinite(value) else None


def told(found: Found, path: CameraPath, shot: Shot) -> dict:
    """Return what can be said of a datum that was found; `path` is the camera in its world."""
    return {
        "missing": list(found.missing),
        "under": found.under,
        "from": {"level": found.levelled, "heading": found.headed, "origin": found.placed, "scale": found.scaled},
        "ground": _ground(found),
        "distances": _distances(found),
        "scale_sigma": found.scale.sigma if found.scale else None,
        "facts": asdict(camera_facts(path, float(Fraction(shot.plate.fps)))) if len(path.frames) else None,
    }


def _ground(found: Found) -> dict | None:
    ground = found.ground
    if ground is None:
        return None
    rows = zip(ground.tracks, ground.off, ground.off_px, ground.on)
    points = [{"id": t, "off": _figure(off), "px": _figure(px, 3), "on": bool(on)} for t, off, px, on in rows]
    return {"rms": _figure(ground.rms), "rms_px": _figure(ground.rms_px, 3), "points": points}


def _distances(found: Found) -> dict[int, dict]:
    """Return what became of each distance that served, by its number."""
    scale = found.scale
    if scale is None:
        return {}
    rows = zip(found.judged, scale.found, scale.share, scale.sigmas, scale.contradicts)
    return {
        n: {"found": _figure(length), "share": _figure(share), "sigmas": _figure(sigmas, 2), "contradicts": bool(bad)}
        for n, length, share, sigmas, bad in rows
    }
