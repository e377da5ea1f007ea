"""How two packages of a shot differ, in words."""

import numpy as np


def compared(before: dict, after: dict) -> list[str]:
    """Return in words how two packages of a shot differ, by their manifests.

    Parameters
    ----------
    before, after : manifests.
    """
    unit = "m" if after["metric"] and before["metric"] else "units"
    out = []
    old = {one["name"]: one for one in before["cameras"]}
    for one in after["cameras"]:
        was = old.get(one["name"])
        if was is None:
            out.append(f"The camera {one['name']} is new.")
            continue
        out += _camera_differs(was, one, unit)
    points = after["points"] - before["points"]
    if points:
        out.append(f"{abs(points)} points {'more' if points > 0 else 'fewer'}.")
    for name, words in (("fps", "frame rate"), ("frames", "frames")):
        if before[name] != after[name]:
            out.append(f"Other {words}: {before[name]} before, {after[name]} now.")
    choices = [k for k, v in after["recipient"].items() if before["recipient"].get(k) != v]
    if choices:
        out.append(f"Other choices: {', '.join(choices)}.")
    return out or ["Nothing of it differs."]


def _camera_differs(was: dict, now: dict, unit: str) -> list[str]:
    common = sorted(set(was["frames"]) & set(now["frames"]))
    out = []
    if common:
        a, b = (
            {f: (np.array(p), np.array(r)) for f, p, r in zip(one["frames"], one["positions"], one["turns"])}
            for one in (was, now)
        )
        moved = max(float(np.linalg.norm(a[f][0] - b[f][0])) for f in common)
        turned = max(_turn_degrees(a[f][1], b[f][1]) for f in common)
        if moved > 1e-7:
            said = f"{1000 * moved:.1f} mm" if unit == "m" and moved < 1.0 else f"{moved:.3g} {unit}"
            out.append(f"{now['name']}: the camera moved by up to {said}.")
        if turned > 1e-4:
            out.append(f"{now['name']}: it turned by up to {turned:.3f}°.")
    share = float(np.mean(now["focal_mm"]) / np.mean(was["focal_mm"]) - 1.0)
    if abs(share) > 1e-6:
        out.append(f"{now['name']}: focal length {abs(100 * share):.2f} % {'longer' if share > 0 else 'shorter'}.")
    if not np.allclose(was["radial"], now["radial"], atol=1e-9):
        out.append(f"{now['name']}: another distortion.")
    return out


def _turn_degrees(a: np.ndarray, b: np.ndarray) -> float:
    # Of small turns, which rounding would hide from an arc cosine.
    return float(np.degrees(2.0 * np.arcsin(min(np.linalg.norm(a - b) / np.sqrt(8.0), 1.0))))
