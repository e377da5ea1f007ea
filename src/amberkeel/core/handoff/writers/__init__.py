"""Formats that a scene leaves in: a file here, and a line in `WRITERS`."""

from amberkeel.core.handoff.writers.base import Convention, Read, Writer
from amberkeel.core.handoff.writers.collada import COLLADA
from amberkeel.core.handoff.writers.gltf import GLB, GLTF
from amberkeel.core.handoff.writers.obj import OBJ
from amberkeel.core.handoff.writers.opentrackio import OPENTRACKIO
from amberkeel.core.handoff.writers.ply import PLY
from amberkeel.core.handoff.writers.solve import SOLVE
from amberkeel.core.handoff.writers.tables import TABLES
from amberkeel.core.handoff.writers.text import TEXT
from amberkeel.core.handoff.writers.usd import USDA, USDC, USDZ

WRITERS: dict[str, Writer] = {
    one.key: one for one in (USDA, USDC, USDZ, GLB, GLTF, COLLADA, PLY, OBJ, OPENTRACKIO, TABLES, TEXT, SOLVE)
}
"""All of them, by key."""

__all__ = ["WRITERS", "Convention", "Read", "Writer"]
