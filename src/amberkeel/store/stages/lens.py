"""The lens stage's state."""

from amberkeel.store.models import LensProfile
from amberkeel.store.stages.state import LOOK, SETTLED, UNTOUCHED, WORKING, Facts, Stage, lens_changed


def stage(facts: Facts) -> Stage:
    """Return the stage: settled by a profile in use or by a solve; lines alone are under way."""
    session, shot, attempt = facts.session, facts.shot, facts.attempt
    profile = session.get(LensProfile, shot.profile_id) if shot.profile_id else None
    plate, lines = shot.plate, len((shot.lens or {}).get("lines", {}))
    if attempt:
        sigma = attempt.figures["focal_sigma_mm"]
        spread = " ±…" if attempt.figures.get("measuring") else f" ±{max(sigma, 0.005):.2f}" if sigma else ""
        fact = f"f {attempt.figures['focal_mm']:.2f}{spread} mm"
    elif profile and profile.document["focal_known"]:
        mm = plate.sensor_width_mm / profile.document["image"]["width"]
        sigma = max(profile.document["sigma"].get("focal_px", 0.0) * mm, 0.005)
        fact = f"f {profile.document['lens']['focal_px'][0] * mm:.2f} ±{sigma:.2f} mm"
    elif plate and plate.focal_mm:
        fact = f"f {plate.focal_mm:g} mm typed"
    else:
        fact = f"{lines} line{'s' if lines > 1 else ''} drawn" if lines else "f unknown"
    state = (
        LOOK
        if facts.look or lens_changed(shot, attempt)
        else SETTLED
        if attempt or profile
        else WORKING
        if lines
        else UNTOUCHED
    )
    return Stage("lens", "Lens", state, fact)
