"""The camera of a shot as it is kept: sensor, pixel aspect and focal length, with where the focal length came from."""

from amberkeel.store.models import Shot

KNOWN, START, UNKNOWN = "known", "start", "unknown"


def focal_state(shot: Shot) -> str:
    """Return whether a shot's focal length is known, a start value, or unknown; one typed when the plate came in is
    known.
    """
    return (shot.lens or {}).get("focal_state", KNOWN if shot.plate.focal_mm else UNKNOWN)


def camera_of(shot: Shot) -> dict:
    """Return a shot's camera as the page shows it everywhere: lengths in mm, and where the focal length came from."""
    kept, plate = shot.lens or {}, shot.plate
    return {
        "sensor_width_mm": plate.sensor_width_mm,
        "pixel_aspect": plate.pixel_aspect,
        "focal_mm": plate.focal_mm,
        "focal_state": focal_state(shot),
        "focal_sigma_mm": kept.get("focal_sigma_mm", 0.0),
        "sources": kept.get("sources", {}),
    }
