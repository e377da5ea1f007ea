"""Reading USD that others wrote: opened alone, and at the times at which something moves."""

from collections.abc import Iterable
from pathlib import Path

import numpy as np
from pxr import Sdf, Tf, Usd, UsdGeom

from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.camera_paths import MOST_FRAMES


def open_alone(path: Path) -> Usd.Stage:
    """Open a USD file that stands alone; raises HandoffError where it cannot be read, or refers to other files."""
    try:
        layer = Sdf.Layer.FindOrOpen(str(path))
        if layer is None:
            raise HandoffError(f"{path.name} cannot be read as USD.")
        others = [one for one in layer.GetCompositionAssetDependencies() if one]
        if others and path.suffix.lower() != ".usdz":
            raise HandoffError(
                f"{path.name} takes what it shows from other files: {Path(others[0]).name}.",
                "Flatten it into one file.",
            )
        return Usd.Stage.Open(layer)
    except Tf.ErrorException as error:
        raise HandoffError(f"{path.name} cannot be read as USD.") from error


def moving_at(prim: Usd.Prim, attributes: Iterable[Usd.Attribute] = ()) -> list[float]:
    """Return the times at which a prim's place is stated, by its own transform or by that of anything it hangs on, and
    those of attributes; none where it stands still.

    Parameters
    ----------
    prim : of a stage. attributes : whose times count, too.
    """
    times: set[float] = set()
    for one in attributes:
        times.update(one.GetTimeSamples())
    while prim and not prim.IsPseudoRoot():
        placed = UsdGeom.Xformable(prim)
        if placed:
            times.update(placed.GetTimeSamples())
            if placed.GetResetXformStack():
                break
        prim = prim.GetParent()
    return sorted(times)


def frames_of(stage: Usd.Stage, times: list[float]) -> list[float]:
    """Return the frames of a stage on which something is read: the times at which it is stated, or else, where it
    stands still, every frame that the stage says it has.

    Raises
    ------
    HandoffError : there are too many.
    """
    if not times and stage.HasAuthoredTimeCodeRange():
        first, last = stage.GetStartTimeCode(), stage.GetEndTimeCode()
        if not 0.0 <= last - first < MOST_FRAMES:
            raise HandoffError(f"The stage has more than {MOST_FRAMES} frames, or none.")
        times = np.arange(round(first), round(last) + 1).astype(float).tolist()
    if len(times) > MOST_FRAMES:
        raise HandoffError(f"The camera has more than {MOST_FRAMES} frames.")
    return times or [stage.GetStartTimeCode()]


def turned(matrix: np.ndarray) -> np.ndarray:
    """Return the axes (3, 3), a row each of length 1, of a transform (4, 4) of row vectors, whatever its scale."""
    return matrix[:3, :3] / np.maximum(np.linalg.norm(matrix[:3, :3], axis=1, keepdims=True), 1e-12)
