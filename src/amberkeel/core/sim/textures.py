"""Procedural surface textures: planks, stone, shingle, rope, canvas, paint, concrete, iron, cloud.

Every function takes a random generator and returns (S, S, 3) float32 linear reflectance that tiles.
"""

import cv2
import numpy as np
from scipy import fft

from amberkeel.core.sim.cells import nearest_two

SIZE = 1024
"""Texels along each side of a texture."""

TAG_SHARE = 0.796875
"""Side of a tag's black square over that of its sheet: 816 of 1024 texels."""


def fractal(rng: np.random.Generator, beta: float = 1.8, stretch: tuple[float, float] = (1.0, 1.0), size: int = SIZE):
    """Return tiling noise (size, size) with spectrum 1/f**beta, mean 0 and standard deviation 1.

    `stretch` (x, y) above 1 lengthens the structures along that direction.

    Parameters
    ----------
    rng : of the noise. beta : exponent of its spectrum. stretch : (x, y). size : side, texels.
    """
    white = fft.rfft2(rng.standard_normal((size, size)).astype(np.float32), workers=2)
    fy = fft.fftfreq(size)[:, None] * size * stretch[1]
    fx = fft.rfftfreq(size)[None, :] * size * stretch[0]
    f = (fx * fx + fy * fy).astype(np.float32)
    f[0, 0] = 1.0
    white *= f ** np.float32(-beta / 4.0)
    white[0, 0] = 0.0
    noise = fft.irfft2(white, s=(size, size), workers=2)
    return noise / np.float32(noise.std(dtype=float))


def _colour(value: np.ndarray, rgb) -> np.ndarray:
    return value.astype(np.float32)[..., None] * np.asarray(rgb, dtype=np.float32)


def _blend(a: np.ndarray, b: np.ndarray, weight: np.ndarray) -> np.ndarray:
    return a + (b - a) * np.clip(weight, 0.0, 1.0).astype(np.float32)[..., None]


def _finish(texture: np.ndarray) -> np.ndarray:
    return np.clip(texture, 0.012, 0.95).astype(np.float32)


def planks(rng, rows: int = 8, rgb=(0.36, 0.27, 0.19), gap: float = 0.05, worn: float = 0.5) -> np.ndarray:
    """Boards that run along x, with grain, gaps, butt joints, nails and weathering.

    Parameters
    ----------
    rng : of the grain. rows : boards. rgb : colour of new wood. gap : between boards, as a share. worn : 0 to 1.
    """
    y, x = np.mgrid[0:SIZE, 0:SIZE] / SIZE
    row = np.floor(y * rows).astype(int)
    across = y * rows - row
    joint = rng.uniform(0.0, 1.0, rows)[row]
    board = row * 2 + (((x - joint) % 1.0) > 0.5)
    tone = rng.normal(1.0, 0.16, rows * 2)[board]
    grain = fractal(rng, 1.3, (0.06, 1.0))
    value = tone * (1.0 + 0.16 * grain + 0.10 * fractal(rng, 1.6) * worn)
    end = np.minimum(((x - joint) * 2.0) % 1.0, 1.0 - ((x - joint) * 2.0) % 1.0) * 0.5 * rows
    edge = np.minimum(np.minimum(across, 1.0 - across), end)
    value = value * np.clip(0.18 + edge / gap, 0.18, 1.0)
    nail = np.minimum(np.hypot(end - 0.18, across - 0.25), np.hypot(end - 0.18, across - 0.75))
    value = np.where(nail < 0.045, value * 0.35, value)
    grey = _colour(value, np.mean(rgb) * np.array([1.02, 1.0, 0.96]))
    return _finish(_blend(_colour(value, rgb), grey, worn * 0.6 + 0.35 * fractal(rng, 2.0)))


def painted_strakes(rng, rows: int = 10, paint=(0.09, 0.21, 0.25), under=(0.34, 0.27, 0.2)) -> np.ndarray:
    """A painted plank hull: seams, flaking to bare wood and rust-stained drips.

    Parameters
    ----------
    rng : of the wear. rows : strakes. paint, under : colours of the paint and of what lies under it.
    """
    wood = planks(rng, rows, under, 0.03, 0.8)
    y = np.mgrid[0:SIZE, 0:SIZE][0] / SIZE
    across = (y * rows) % 1.0
    seam = np.clip(np.minimum(across, 1.0 - across) / 0.05, 0.45, 1.0)
    coat = _colour((1.0 + 0.09 * fractal(rng, 1.5) + 0.05 * fractal(rng, 0.6)) * seam, paint)
    flake = fractal(rng, 1.55) + 0.5 * fractal(rng, 1.2, (0.4, 1.0))
    out = _blend(coat, wood, (flake - 0.85) * 7.0)
    rust = _colour(1.0 + 0.2 * fractal(rng, 1.2), (0.24, 0.11, 0.06))
    return _finish(_blend(out, rust, (fractal(rng, 1.7, (1.0, 0.12)) - 1.6) * 1.1))


def _cells(rng, count: int, squash: float = 1.0):
    """Tiling Voronoi cells: (cell number, edge distance share, distance to centre) over the texture."""
    index, near, far = nearest_two(rng.uniform(0.0, 1.0, (count, 2)), squash, SIZE)
    return index, far - near, near


def shingle(rng, count: int = 2600) -> np.ndarray:
    """Sea-worn pebbles with shaded gaps."""
    cell, edge, centre = _cells(rng, count)
    radius = 0.5 / np.sqrt(count)
    tone = rng.gamma(6.0, 1.0 / 6.0, count)[cell]
    warm = rng.normal(0.0, 0.06, count)[cell]
    dome = np.clip(1.1 - 0.45 * (centre / radius) ** 2, 0.3, 1.1)
    value = 0.30 * tone * dome * np.clip(0.25 + edge / (0.5 * radius), 0.25, 1.0) * (1 + 0.08 * fractal(rng, 0.8))
    return _finish(np.stack([value * (1.0 + warm), value, value * (0.96 - warm)], -1))


def stone(rng, rows: int = 6, rgb=(0.30, 0.29, 0.27)) -> np.ndarray:
    """Coursed rubble: uneven blocks with mortar and lichen.

    Parameters
    ----------
    rng : of the blocks. rows : courses. rgb : colour.
    """
    cell, edge, _ = _cells(rng, rows * rows * 2, 1.9)
    tone = rng.normal(1.0, 0.22, rows * rows * 2)[cell]
    value = tone * (1.0 + 0.13 * fractal(rng, 1.2) + 0.10 * fractal(rng, 1.9))
    value = value * np.clip(0.35 + edge * rows * 6.0, 0.35, 1.0)
    lichen = _colour(1.0 + 0.2 * fractal(rng, 1.0), (0.34, 0.33, 0.17))
    return _finish(_blend(_colour(value, rgb), lichen, (fractal(rng, 1.6) - 1.5) * 2.0))


def concrete(rng, rgb=(0.31, 0.31, 0.29)) -> np.ndarray:
    """A cast slab with aggregate, stains, cracks and weed."""
    value = 1.0 + 0.15 * fractal(rng, 1.9) + 0.11 * fractal(rng, 0.9)
    _, edge, _ = _cells(rng, 26)
    wander = np.clip(np.abs(edge + 0.012 * fractal(rng, 1.8)) / 0.004, 0.25, 1.0)
    cell, _, centre = _cells(rng, 5200)
    speck = np.where(centre < 0.0042, rng.normal(1.0, 0.42, 5200)[cell], 1.0)
    weed = _colour(1.0 + 0.25 * fractal(rng, 0.8), (0.10, 0.15, 0.07))
    out = _blend(_colour(value * wander * speck, rgb), weed, (fractal(rng, 1.5) - 1.35) * 1.6)
    return _finish(out)


def canvas(rng, rgb=(0.42, 0.39, 0.31)) -> np.ndarray:
    """Heavy cloth with weave, folds and patches of wet."""
    y, x = np.mgrid[0:SIZE, 0:SIZE] / SIZE
    weave = 0.04 * (np.sin(x * 2 * np.pi * 160) + np.sin(y * 2 * np.pi * 160))
    fold = 0.16 * fractal(rng, 2.4, (1.0, 0.35)) + 0.07 * fractal(rng, 1.2)
    seam = np.where(np.abs((x * 3) % 1.0 - 0.5) < 0.012, 0.6, 1.0)
    return _finish(_colour((1.0 + weave + fold) * seam, rgb))


def rope(rng, rgb=(0.46, 0.38, 0.25)) -> np.ndarray:
    """Laid rope: diagonal strands with fibres."""
    y, x = np.mgrid[0:SIZE, 0:SIZE] / SIZE
    strand = np.abs(np.sin((x * 16 + y * 3) * np.pi))
    return _finish(_colour((0.35 + 0.75 * strand) * (1 + 0.15 * fractal(rng, 0.9, (0.3, 1.0))), rgb))


def iron(rng, ribs: int = 12, rgb=(0.27, 0.27, 0.26)) -> np.ndarray:
    """Corrugated iron with rust runs; flat plate when `ribs` is 0.

    Parameters
    ----------
    rng : of the rust. ribs : across. rgb : colour.
    """
    x = np.mgrid[0:SIZE, 0:SIZE][1] / SIZE
    rib = 0.78 + 0.3 * np.sin(x * 2 * np.pi * ribs) if ribs else 1.0
    sheet = _colour(rib * (1.0 + 0.08 * fractal(rng, 1.4)), rgb)
    rust = _colour(rib * (1.0 + 0.25 * fractal(rng, 1.1)), (0.27, 0.13, 0.07))
    patch = fractal(rng, 1.7, (1.0, 0.35)) + 0.4 * fractal(rng, 1.0)
    return _finish(_blend(sheet, rust, (patch - 0.4) * 1.6))


def heath(rng, rgb=(0.15, 0.15, 0.08)) -> np.ndarray:
    """Rough grass and heather for distant slopes."""
    value = 1.0 + 0.3 * fractal(rng, 1.1) + 0.2 * fractal(rng, 1.9)
    return _finish(_blend(_colour(value, rgb), _colour(value, (0.18, 0.12, 0.12)), fractal(rng, 1.5) - 0.4))


def cloud(rng) -> np.ndarray:
    """An overcast sky, soft enough to give no corners."""
    soft = fractal(rng, 3.2)
    return np.clip(_colour(0.72 + 0.10 * soft, (0.95, 0.98, 1.02)), 0.3, 1.2)


def cloth(rng, rgb=(0.5, 0.2, 0.1)) -> np.ndarray:
    """Work clothes: plain colour, creases and grime."""
    value = 1.0 + 0.16 * fractal(rng, 1.9, (1.0, 0.5)) + 0.12 * fractal(rng, 1.0)
    band = np.mgrid[0:SIZE, 0:SIZE][0] / SIZE
    stripe = np.where(np.abs(band % 0.5 - 0.2) < 0.035, 1.8, 1.0)
    return _finish(_colour(value * stripe, rgb))


def tag(number: int, cells: int = 8, dictionary: int = cv2.aruco.DICT_APRILTAG_36h11) -> np.ndarray:
    """A printed fiducial tag with one cell of paper around it; `TAG_SHARE` of the side is the black square.

    Parameters
    ----------
    number : of the tag. cells : of its pattern, a side. dictionary : OpenCV's.
    """
    side = int(round(TAG_SHARE * SIZE / cells)) * cells
    picture = np.full((SIZE, SIZE), 0.45, np.float32)
    at = (SIZE - side) // 2
    square = cv2.aruco.generateImageMarker(cv2.aruco.getPredefinedDictionary(dictionary), number, side)
    picture[at : at + side, at : at + side] = np.where(square > 127, 0.45, 0.03)
    return _colour(picture, (1.0, 1.0, 0.98))
