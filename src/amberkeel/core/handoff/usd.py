"""A solve alone, or with a body, as USD text in centimetres; see `writers.usd` for the format's conventions."""

from amberkeel.core.handoff.scene import scene_of
from amberkeel.core.handoff.solve_file import SolveDocument
from amberkeel.core.handoff.writers.base import Convention
from amberkeel.core.handoff.writers.usd import stage_of

CENTIMETRES = Convention(0.01)


def usd_text(document: SolveDocument, sensor_width_mm: float) -> str:
    """Return a solve document as `.usda` text.

    Parameters
    ----------
    document : see `solve_document`. sensor_width_mm : width of the filmed part of the sensor.
    """
    stage = stage_of(scene_of(document, sensor_width_mm), CENTIMETRES)
    return stage.GetRootLayer().ExportToString()


def body_usd_text(document: SolveDocument, body: dict, sensor_width_mm: float) -> str:
    """Return a camera and a body as `.usda` text: the body is an animated transform with its points under it.

    Parameters
    ----------
    document : the camera's, see `solve_document`. body : see `ties.bodies.body_file.body_document`. sensor_width_mm :
        width of the filmed part of the sensor.
    """
    scene = scene_of(document, sensor_width_mm, None, [{**body, "name": "Body"}])
    stage = stage_of(scene, CENTIMETRES)
    return stage.GetRootLayer().ExportToString()
