"""The tracking copy: a small stack of operations that makes a plate easier to follow, used for tracking only.

Channels come first, since everything after works on one of them; a crop says which part holds no picture.
"""

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, cast

import cv2
import numpy as np
from scipy.interpolate import PchipInterpolator

from amberkeel.core.errors import PlateError
from amberkeel.core.pictures.read import to_gray
from amberkeel.core.plate.plate import Plate, open_plate
from amberkeel.core.plate.sequence import spans

NO_FLOW = cast(Any, None)
"""For OpenCV, whose types do not know that a flow to begin with may be left away."""


@dataclass(frozen=True)
class Limit:
    """A figure of an operation: least, most, what it starts from, and the step by which it is turned."""

    low: float
    high: float
    start: float
    step: float = 1.0


OPERATIONS: dict[str, dict[str, Limit]] = {
    "channels": {"red": Limit(-2, 2, 0.3, 0.01), "green": Limit(-2, 2, 0.59, 0.01), "blue": Limit(-2, 2, 0.11, 0.01)},
    "levels": {"black": Limit(0, 254, 0), "white": Limit(1, 255, 255), "gamma": Limit(0.1, 8, 1, 0.05)},
    "contrast": {"shadows": Limit(-100, 100, 0), "middle": Limit(-100, 100, 0), "lights": Limit(-100, 100, 0)},
    "local contrast": {"amount": Limit(0, 1, 0.6, 0.05), "size": Limit(8, 400, 60)},
    "blur": {"radius": Limit(0, 20, 1, 0.1)},
    "denoise, keep edges": {"strength": Limit(1, 80, 20), "radius": Limit(1, 8, 2, 0.5)},
    "denoise over time": {"frames": Limit(1, 4, 2), "strength": Limit(1, 80, 20)},
    "sharpen": {"amount": Limit(0, 4, 1, 0.05), "radius": Limit(0.5, 10, 1.5, 0.1)},
    "crop": {
        "left": Limit(0, 4096, 0),
        "right": Limit(0, 4096, 0),
        "top": Limit(0, 4096, 0),
        "bottom": Limit(0, 4096, 0),
    },
}
"""The operations with their figures."""


@dataclass(frozen=True)
class Operation:
    """One operation of the stack: its name of OPERATIONS, its figures, and whether it is on."""

    name: str
    figures: dict[str, float] = field(default_factory=dict)
    on: bool = True

    def __getitem__(self, figure: str) -> float:
        return self.figures.get(figure, OPERATIONS[self.name][figure].start)


def read_stack(given: list[dict]) -> list[Operation]:
    """Return operations from plain data ``{"name", "figures", "on"}``; raises PlateError for what is none."""
    stack: list[Operation] = []
    if not isinstance(given, list) or not all(isinstance(one, dict) for one in given):
        raise PlateError("These are no operations of a tracking copy.")
    for one in given:
        name, figures = one.get("name"), one.get("figures", {})
        if not isinstance(name, str) or name not in OPERATIONS or not isinstance(figures, dict):
            raise PlateError(f"There is no operation “{name}”.", f"Choose {', '.join(OPERATIONS)}.")
        for figure, value in figures.items():
            limit = OPERATIONS[name].get(figure)
            if (
                limit is None
                or isinstance(value, bool)
                or not isinstance(value, int | float)
                or not limit.low <= value <= limit.high
            ):
                span = f"{limit.low:g} to {limit.high:g}" if limit else "not known"
                raise PlateError(f"{name.capitalize()}: {figure} “{value}” is out of range.", f"It may be {span}.")
        stack.append(Operation(name, {k: float(v) for k, v in figures.items()}, bool(one.get("on", True))))
    return stack


class TrackingCopy(Plate):
    """A plate seen through a stack of operations; `gray` is what is followed, `read` stays the plate as shot."""

    def __init__(self, plate: Plate, stack: list[Operation]):
        super().__init__(
            plate.name, plate.frames, plate.width, plate.height, plate.source, plate.fps, plate.pixel_aspect
        )
        self.under = plate
        self.stack = [o for o in stack if o.on]
        crops = [o for o in self.stack if o.name == "crop"]
        if crops and (
            crops[-1]["left"] + crops[-1]["right"] > self.width - 32
            or crops[-1]["top"] + crops[-1]["bottom"] > self.height - 32
        ):
            raise PlateError("The crop leaves nothing of the picture.", "Make it smaller.")

    def read(self, frame: int) -> np.ndarray:
        """Return a frame as shot, (H, W, 3) uint8."""
        return self.under.read(frame)

    def gray(self, frame: int) -> np.ndarray:
        """Return the copy's picture of a frame, (H, W) uint8."""
        return np.clip(np.round(self._through(frame, self.stack)), 0, 255).astype(np.uint8)

    def _through(self, frame: int, stack: list[Operation]) -> np.ndarray:
        """Return a frame (H, W) float32 after the operations of a stack."""
        own = next((o for o in stack if o.name == "channels"), None)
        picture = self.read(frame)
        gray = to_gray(picture).astype(np.float32) if own is None else _mixed(picture, own)
        for k, operation in enumerate(stack):
            if operation.name == "denoise over time":
                gray = self._over_time(frame, gray, operation, stack[:k])
            elif operation.name in _PLAIN:
                gray = _PLAIN[operation.name](gray, operation)
        return gray

    def _over_time(self, frame: int, gray: np.ndarray, operation: Operation, before: list[Operation]) -> np.ndarray:
        """Return the mean of a frame and its neighbours brought onto it by dense flow, each pixel by how well it
        agrees.
        """
        reach, strength = int(operation["frames"]), operation["strength"]
        flow = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_FAST)
        soft = cv2.GaussianBlur(gray, (0, 0), 1.5)
        base = np.clip(soft, 0, 255).astype(np.uint8)
        y, x = np.mgrid[0 : self.height, 0 : self.width].astype(np.float32)
        total, weight = gray.copy(), np.ones_like(gray)
        for other in range(frame - reach, frame + reach + 1):
            if other == frame or not self.frames[0] <= other <= self.frames[-1]:
                continue
            near = self._through(other, before)
            blurred = cv2.GaussianBlur(near, (0, 0), 1.5)
            move = flow.calc(base, np.clip(blurred, 0, 255).astype(np.uint8), NO_FLOW)
            mapped = (x + move[..., 0], y + move[..., 1])
            brought = cv2.remap(near, *mapped, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
            apart = cv2.remap(blurred, *mapped, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE) - soft
            w = np.exp(-0.5 * (apart / (0.4 * strength)) ** 2)
            total += w * brought
            weight += w
        return total / weight

    def outside(self) -> np.ndarray | None:
        """Return where a crop says that there is no picture, (H, W) bool, or None."""
        crops = [o for o in self.stack if o.name == "crop"]
        if not crops:
            return None
        left, right, top, bottom = (int(crops[-1][side]) for side in ("left", "right", "top", "bottom"))
        out = np.ones((self.height, self.width), bool)
        out[top : self.height - bottom, left : self.width - right] = False
        return out


def _mixed(picture: np.ndarray, o: Operation) -> np.ndarray:
    return picture.astype(np.float32) @ np.array([o["red"], o["green"], o["blue"]], np.float32)


def _levels(gray: np.ndarray, o: Operation) -> np.ndarray:
    share = np.clip((gray - o["black"]) / max(o["white"] - o["black"], 1.0), 0.0, 1.0)
    return 255.0 * share ** (1.0 / o["gamma"])


def _contrast(gray: np.ndarray, o: Operation) -> np.ndarray:
    at = np.array([0.0, 64.0, 128.0, 192.0, 255.0])
    to = np.maximum.accumulate(
        np.clip(at + [0.0, 0.6 * o["shadows"], 0.6 * o["middle"], 0.6 * o["lights"], 0.0], 0.0, 255.0)
    )
    return PchipInterpolator(at, to)(np.clip(gray, 0.0, 255.0)).astype(np.float32)


def _local(gray: np.ndarray, o: Operation) -> np.ndarray:
    mean = cv2.GaussianBlur(gray, (0, 0), o["size"])
    spread = np.sqrt(np.maximum(cv2.GaussianBlur((gray - mean) ** 2, (0, 0), o["size"]), 16.0))
    return gray + o["amount"] * (128.0 + 45.0 * (gray - mean) / spread - gray)


def _blur(gray: np.ndarray, o: Operation) -> np.ndarray:
    return cv2.GaussianBlur(gray, (0, 0), o["radius"]) if o["radius"] > 0.05 else gray


def _keep_edges(gray: np.ndarray, o: Operation) -> np.ndarray:
    return cv2.bilateralFilter(gray.astype(np.float32), -1, o["strength"], o["radius"])


def _sharpen(gray: np.ndarray, o: Operation) -> np.ndarray:
    return gray + o["amount"] * (gray - cv2.GaussianBlur(gray, (0, 0), o["radius"]))


def _crop(gray: np.ndarray, o: Operation) -> np.ndarray:
    out = np.zeros_like(gray)
    height, width = gray.shape
    part = (slice(int(o["top"]), height - int(o["bottom"])), slice(int(o["left"]), width - int(o["right"])))
    out[part] = gray[part]
    return out


_PLAIN = {
    "levels": _levels, "contrast": _contrast, "local contrast": _local, "blur": _blur,
    "denoise, keep edges": _keep_edges, "sharpen": _sharpen, "crop": _crop,
}  # fmt: skip


def stand_in(plate: Plate, where: str | Path) -> Plate:
    """Open replaced images for a plate, with the plate's own name; raises PlateError that names every difference."""
    other = open_plate(where)
    wrong = []
    if (other.width, other.height) != (plate.width, plate.height):
        wrong.append(f"they are {other.width}x{other.height}, the plate is {plate.width}x{plate.height}")
    if other.frames.tolist() != plate.frames.tolist():
        wrong.append(f"they run {spans(other.frames.tolist())}, the plate {spans(plate.frames.tolist())}")
    if wrong:
        raise PlateError(
            f"These images cannot stand in for the plate: {'; '.join(wrong)}.",
            "They must have its size and its frame numbers.",
        )
    return replace(other, name=plate.name, fps=plate.fps, pixel_aspect=plate.pixel_aspect)
