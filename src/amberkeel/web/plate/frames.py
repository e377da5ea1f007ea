"""The plate's proxies."""

from flask import abort, send_file

from amberkeel.core.errors import KeelError
from amberkeel.web.common import media
from amberkeel.web.jobs import start
from amberkeel.web.plate.blueprint import blueprint


@blueprint.get("/frames/<digest>.jpg")
def frame(digest: str):
    """Send a proxy; it never changes, so the browser may keep it."""
    try:
        answer = send_file(media().path(digest), mimetype="image/jpeg", conditional=True, etag=False)
    except (KeelError, FileNotFoundError):
        abort(404)
    answer.headers["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer


@blueprint.post("/shots/<int:number>/ingest")
def ingest(number: int):
    """Make the proxies again."""
    return start("ingest", number, {})
