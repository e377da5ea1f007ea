"""Camera paths that come from elsewhere: tables (CSV) and USD, taken to the conventions of `core`."""

import csv
import io
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import HandoffError
from amberkeel.core.foreign import guarded
from amberkeel.core.geometry.rotations import nearest_rotation
from amberkeel.core.lens import Lens
from amberkeel.core.solve.evidence.statement import Hold

MATRIX = [f"r{i}{j}" for i in range(3) for j in range(3)]
QUATERNION = ["qx", "qy", "qz", "qw"]
ANGLES = ["pan", "tilt", "roll"]

MOST_FRAMES = 100_000

NOT_SQUARE = 0.01
"""Difference of a matrix from the nearest rotation from which it is none."""

Y_FROM_Z_UP = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, 1.0], [0.0, -1.0, 0.0]])


@dataclass(frozen=True)
class ImportedPath:
    """A camera path without a lens.

    Attributes
    ----------
    frames : (F,) rising. positions : (F, 3) metres, Y up. rotations : (F, 3, 3) world_from_camera, our camera axes.
    focal_share : (F,) focal length over the picture's width, or None where it was not said.
    """

    frames: np.ndarray
    positions: np.ndarray
    rotations: np.ndarray
    focal_share: np.ndarray | None

    def hold(self, name: str, first: int, last: int) -> Hold:
        """Return the constraint that the camera is there on the frames from `first` to `last`.

        Raises HandoffError where the path has none of them.
        """
        own = np.nonzero((self.frames >= first) & (self.frames <= last))[0]
        if not len(own):
            raise HandoffError(
                f"The path has frames {self.frames[0]}–{self.frames[-1]}, none of {first}–{last}.",
                "Give a path with the plate's own frame numbers.",
            )
        positions, rotations = self.positions[own].tolist(), self.rotations[own].tolist()
        focal = None if self.focal_share is None else float(self.focal_share[own[0]])
        frames = self.frames[own].tolist()
        return Hold(name=name, frames=frames, positions=positions, rotations=rotations, focal_share=focal)

    def camera(self, width: int, height: int, focal_px: float | None = None) -> CameraPath:
        """Return the path with a lens: the known focal length, or its own on its first frame.

        Raises HandoffError where neither is known.
        """
        focal = focal_px
        if focal is None and self.focal_share is not None:
            focal = float(self.focal_share[0]) * width
        if focal is None:
            raise HandoffError("The path says no focal length.", "Give it beside the path.")
        return CameraPath(self.frames, self.positions, self.rotations, Lens.centred(width, height, focal))


def path_of_hold(held: Hold) -> ImportedPath:
    """Return a path that was stated to be held, for a solve to begin from; raises HandoffError where axes are free."""
    if held.positions is None or held.rotations is None or any(None in row for row in held.positions):
        raise HandoffError(f"{held.name} leaves axes free.", "Begin from a path with positions and orientations.")
    frames, positions = np.array(held.frames), np.array(held.positions, float)
    share = None if held.focal_share is None else np.full(len(frames), held.focal_share)
    return _checked(ImportedPath(frames, positions, np.array(held.rotations), share))


@guarded("This camera path", HandoffError)
def read_camera_path(name: str, data: bytes) -> ImportedPath:
    """Return the camera path of a file.

    Parameters
    ----------
    name : the file's; its ending says what it is: .csv, .usd, .usda, .usdc, .usdz. data : what is in it.

    Raises
    ------
    HandoffError : it is none of these, holds no camera, or holds what is no pose.
    """
    kind = Path(name).suffix.lower()
    if kind == ".csv":
        found = _from_table(data)
    elif kind in (".usd", ".usda", ".usdc", ".usdz"):
        found = _from_usd(data, kind)
    else:
        raise HandoffError(f"{Path(name).name} is no camera path.", "Give a table (.csv) or USD (.usd, .usda, .usdc).")
    return _checked(found)


def _checked(path: ImportedPath) -> ImportedPath:
    if len(path.frames) < 2:
        raise HandoffError("The path has fewer than two frames.")
    if len(path.frames) > MOST_FRAMES:
        raise HandoffError(f"The path has {len(path.frames)} frames, more than {MOST_FRAMES}.")
    if (np.diff(path.frames) <= 0).any():
        raise HandoffError("The path's frames do not rise one after another.", "Sort them, and give each once.")
    whole = np.isfinite(path.positions).all(1) & np.isfinite(path.rotations).all((1, 2))
    if not whole.all():
        raise HandoffError(f"Frame {path.frames[~whole][0]} of the path has no finite pose.")
    if path.focal_share is not None and not (np.isfinite(path.focal_share) & (path.focal_share > 0.0)).all():
        raise HandoffError("A focal length of the path is not above 0.")
    square = np.array([nearest_rotation(r) for r in path.rotations])
    off = np.abs(square - path.rotations).max((1, 2))
    if off.max() > NOT_SQUARE:
        raise HandoffError(f"Frame {path.frames[int(off.argmax())]} of the path is not turned by a rotation.")
    return ImportedPath(path.frames, path.positions, square, path.focal_share)


def _from_table(data: bytes) -> ImportedPath:
    hint = "Columns: frame, x, y, z, and r00 to r22 (world_from_camera), qx, qy, qz, qw, or pan, tilt, roll in degrees."
    try:
        rows = list(csv.DictReader(io.StringIO(data.decode("utf-8-sig"))))
        columns = set(rows[0]) if rows else set()
        turned = next((names for names in (MATRIX, QUATERNION, ANGLES) if columns >= set(names)), None)
        if turned is None or not columns >= {"frame", "x", "y", "z"}:
            raise HandoffError("The table is no camera path.", hint)
        frames, positions, turns = (
            np.array([[float(row[name]) for name in names] for row in rows])
            for names in (["frame"], ["x", "y", "z"], turned)
        )
        focal = np.array([float(row["focal_px"]) for row in rows]) if "focal_px" in columns else None
        wide = np.array([float(row["width_px"]) for row in rows]) if "width_px" in columns else None
    except (UnicodeDecodeError, ValueError, TypeError, csv.Error) as error:
        raise HandoffError("The table is no camera path: a cell is no number.", hint) from error
    if not np.isfinite(turns).all() or not np.isfinite(frames).all() or (frames != np.round(frames)).any():
        raise HandoffError("The table is no camera path: a cell is no number.", hint)
    share = focal / wide if focal is not None and wide is not None else None
    return ImportedPath(frames[:, 0].astype(int), positions, _turns(turned, turns), share)


def _turns(names: list[str], values: np.ndarray) -> np.ndarray:
    """Return rotations (F, 3, 3) world_from_camera of matrices, quaternions or angles."""
    if names == MATRIX:
        return values.reshape(-1, 3, 3)
    if names == QUATERNION:
        if not (np.linalg.norm(values, axis=1) > 0.0).all():
            raise HandoffError("A quaternion of the path has no length.")
        return Rotation.from_quat(values).as_matrix()
    pan, tilt, roll = np.radians(values.T)
    # Level and looking along -Z first, then rolled about its axis, tilted up, and panned to the right.
    level = np.diag([1.0, -1.0, -1.0])
    order = Rotation.from_euler("YXZ", np.stack([-pan, tilt, -roll], 1)).as_matrix()
    return order @ level


def _from_usd(data: bytes, kind: str) -> ImportedPath:
    from pxr import UsdGeom

    from amberkeel.core.handoff.usd_times import frames_of, moving_at, open_alone

    with tempfile.NamedTemporaryFile(suffix=kind) as file:
        file.write(data)
        file.flush()
        stage = open_alone(Path(file.name))
        cameras = [UsdGeom.Camera(prim) for prim in stage.Traverse() if prim.IsA(UsdGeom.Camera)]
        if not cameras:
            raise HandoffError("There is no camera in the file.")
        if len(cameras) > 1:
            names = ", ".join(camera.GetPrim().GetName() for camera in cameras[:4])
            raise HandoffError(f"There are {len(cameras)} cameras in the file: {names}.", "Give a file with one.")
        times = moving_at(cameras[0].GetPrim(), [cameras[0].GetFocalLengthAttr()])
        if times and not stage.HasAuthoredTimeCodeRange():
            times = list(range(round(times[0]), min(round(times[-1]), round(times[0]) + MOST_FRAMES) + 1))
        frames = frames_of(stage, [] if stage.HasAuthoredTimeCodeRange() else times)
        return _sampled(stage, cameras[0], np.round(frames).astype(int))


def _sampled(stage, camera, frames: np.ndarray) -> ImportedPath:
    """Return a USD camera on frames (F,), metres and Y up, looking along its own +Z as ours does."""
    from pxr import UsdGeom

    from amberkeel.core.handoff.usd_times import turned

    metres, turn = UsdGeom.GetStageMetersPerUnit(stage), np.eye(3)
    if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z:
        turn = Y_FROM_Z_UP
    cache, positions, rotations, shares = UsdGeom.XformCache(), [], [], []
    for frame in frames.tolist():
        cache.SetTime(frame)
        matrix = np.array(cache.GetLocalToWorldTransform(camera.GetPrim()))
        positions.append(turn @ matrix[3, :3] * metres)
        rotations.append(turn @ turned(matrix).T @ np.diag([1.0, -1.0, -1.0]))
        shares.append(camera.GetFocalLengthAttr().Get(frame) / camera.GetHorizontalApertureAttr().Get(frame))
    return ImportedPath(frames, np.array(positions), np.array(rotations), np.array(shares))
