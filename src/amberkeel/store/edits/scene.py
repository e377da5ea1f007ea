"""Edits of what stands in a shot's scene."""

from typing import Any

from sqlalchemy.orm import Session

from amberkeel.core.errors import WorldError
from amberkeel.core.world.standing import MOST, Probe, Proxy, Standing, read_standing
from amberkeel.store.models import Shot
from amberkeel.store.typed import Typed

MODELS: dict[str, type[Standing]] = {"proxies": Proxy, "probes": Probe}


class Scene(Typed):
    """Proxies and probe objects by id, none for what is taken away; where the light comes from; and what changed."""

    proxies: dict[str, dict[str, Any] | None] = {}
    probes: dict[str, dict[str, Any] | None] = {}
    light: list[float] | None = None
    behind: bool | None = None
    label: str = ""


def scene(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"proxies": {id: proxy or None}, "probes": as those, "light": degrees, "behind":
    whether what is masked hides paintings and shadows, "label": what changed}.
    """
    kept = dict(shot.scene or {})
    inverse: dict[str, Any] = {"label": payload.get("label", "")}
    for part, model in MODELS.items():
        given = payload.get(part)
        if not given:
            continue
        rows, before = dict(kept.get(part, {})), {}
        for name, thing in given.items():
            before[name] = rows.pop(name, None)
            if thing is not None:
                rows[name] = read_standing(model, thing).model_dump(exclude_defaults=True, mode="json") | {
                    "kind": thing["kind"]
                }
        if len(rows) > MOST:
            raise WorldError(f"A scene holds at most {MOST} of these.", "Take some away first.")
        kept[part], inverse[part] = rows, before
    for name in ("light", "behind"):
        if name in payload:
            inverse[name] = kept.pop(name, None)
            if payload[name] is not None:
                kept[name] = payload[name]
    shot.scene = kept
    return inverse, payload.get("label") or "Change the scene"
