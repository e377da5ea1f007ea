"""Several bundles as one: shots of one set, with lenses of their own or one for all, and points that more than one
sees.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.solve.bundle import Bundle, LensBlock

MOST_BUNDLES = 20
"""Bundles joined at the most."""


@dataclass(frozen=True)
class SamePoint:
    """One spot seen by several shots: (bundle number, point row) of each."""

    seen: tuple[tuple[int, int], ...]


def joined(bundles: Sequence[Bundle], share_lens: bool, same: Sequence[SamePoint] = ()) -> Bundle:
    """Return one bundle of several, side by side in one world.

    Parameters
    ----------
    bundles : with their cameras and points in one world where `same` ties them; each with one lens.
    share_lens : whether all cameras use the first bundle's lens and its terms; else each keeps its own.
    same : points that are one; the first of each keeps its position, the others' observations go to it.

    Raises
    ------
    ValueError : more than `MOST_BUNDLES`, a zoom in a shared lens, or a term of a lens that is not number 0.
    """
    if len(bundles) > MOST_BUNDLES:
        raise ValueError(f"{len(bundles)} bundles are more than {MOST_BUNDLES}.")
    if share_lens and any(b.lenses[0].zooms for b in bundles):
        raise ValueError("A lens that zooms cannot be shared.")
    cameras = np.cumsum([0] + [len(b.centres) for b in bundles])
    points = np.cumsum([0] + [len(b.rhos) for b in bundles])
    first = bundles[0]
    lenses: tuple[LensBlock, ...]
    if share_lens:
        lenses, lens_of, terms = (
            (_among_all(first.lenses[0], 0, cameras[-1]),),
            np.zeros(cameras[-1], np.int64),
            first.terms,
        )
    else:
        lenses = tuple(_among_all(b.lenses[0], at, cameras[-1]) for b, at in zip(bundles, cameras))
        lens_of = np.repeat(np.arange(len(bundles)), [len(b.centres) for b in bundles])
        terms = tuple(replace(term, lens=k) for k, b in enumerate(bundles) for term in b.terms)  # type: ignore[type-var]

    def stacked(name: str) -> np.ndarray:
        return np.concatenate([getattr(b, name) for b in bundles])

    whole = Bundle(
        stacked("rotations"), stacked("centres"), stacked("free"), lenses, lens_of,
        stacked("anchors"), stacked("directions"), stacked("rhos"), first.first,
        np.concatenate([b.camera + at for b, at in zip(bundles, cameras)]), stacked("xy"), stacked("weight"),
        terms, first.loss_scale, np.concatenate([b.observations().drift for b in bundles]),
    )  # fmt: skip
    owner = np.concatenate([b.point + at for b, at in zip(bundles, points)])
    for one in same:
        rows = [int(points[k] + p) for k, p in one.seen]
        owner[np.isin(owner, rows[1:])] = rows[0]
    return _sorted(whole, owner)


def _among_all(lens: LensBlock, at: int, cameras: int) -> LensBlock:
    """Return a lens with its zoom's basis among all cameras, its own from row `at` on."""
    basis = np.zeros((cameras, len(lens.zoom)))
    if lens.zooms:
        basis[at : at + len(lens.zoom_basis)] = lens.zoom_basis
    return replace(lens, zoom_basis=basis)


def _sorted(bundle: Bundle, owner: np.ndarray) -> Bundle:
    """Return the bundle with its observations sorted by their points `owner` (N,) and then by camera."""
    order = np.lexsort((bundle.camera, owner))
    counts = np.bincount(owner, minlength=len(bundle.rhos))
    return replace(
        bundle, first=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64), camera=bundle.camera[order],
        xy=bundle.xy[order], weight=bundle.weight[order], drift=bundle.observations().drift[order],
    )  # fmt: skip


def parted(joint: Bundle, bundles: Sequence[Bundle], same: Sequence[SamePoint] = ()) -> list[Bundle]:
    """Return the parts of an adjusted joint bundle, in the order of the `bundles` it was joined from.

    A point of `same` is given to all bundles that see it, about its first one's anchor.

    Parameters
    ----------
    joint : adjusted. bundles : that it was joined from. same : the points that were joined.
    """
    shared, points = len(joint.lenses) == 1, np.cumsum([0] + [len(b.rhos) for b in bundles])
    arrays = {name: getattr(joint, name).copy() for name in ("anchors", "directions", "rhos")}
    for one in same:
        rows = [int(points[k] + p) for k, p in one.seen]
        for values in arrays.values():
            values[rows[1:]] = values[rows[0]]
    out, camera = [], 0
    for k, b in enumerate(bundles):
        c, p = slice(camera, camera + len(b.centres)), slice(points[k], points[k + 1])
        lens = joint.lenses[0 if shared else k]
        block = replace(b.lenses[0], values=lens.values, zoom=lens.zoom)
        own = {name: values[p] for name, values in arrays.items()}
        out.append(replace(b, rotations=joint.rotations[c], centres=joint.centres[c], lenses=(block,), **own))
        camera = c.stop
    return out
