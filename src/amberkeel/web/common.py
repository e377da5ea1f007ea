"""What the views share: a session, the shot asked for, and who is asking."""

import io
import tempfile
import zipfile
from collections.abc import Iterable
from pathlib import Path

from flask import abort, current_app, send_file
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.held import hold_shot
from amberkeel.store.media import Media
from amberkeel.store.models import Production, Shot
from amberkeel.store.session import session


def open_session():
    """Open a session on this application's database."""
    return session(current_app.settings.database)


def media() -> Media:
    """Return this application's media folder."""
    return Media(current_app.settings.media)


def get_shot(opened: Session, number: int) -> Shot:
    """Return a shot, or answer 404; raises KeelError for one that was deleted."""
    shot = opened.get(Shot, number) or abort(404)
    _check_kept(shot, shot.production)
    return shot


def shot_to_change(opened: Session, number: int) -> Shot:
    """Return a shot that this request is about to change, as it stands now and held until the transaction ends; answer
    404 where there is none. Raises KeelError for one that was deleted.
    """
    shot = hold_shot(opened, number) or abort(404)
    _check_kept(shot, shot.production)
    return shot


def get_production(opened: Session, number: int) -> Production:
    """Return a production, or answer 404; raises KeelError for one that was deleted."""
    production = opened.get(Production, number) or abort(404)
    _check_kept(production, production)
    return production


def _check_kept(row: Shot | Production, production: Production) -> None:
    if row.deleted or production.deleted:
        raise KeelError(f"{row.name} was deleted.", "It can be restored on the page of storage for some days.")


def send_packed(files: Iterable[Path], folder: str, name: str):
    """Answer with files packed under a folder's name, as a download called `name`."""
    # In a file of its own and not in memory: a plate's mattes have gigabytes.
    packed = tempfile.TemporaryFile()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_STORED) as archive:
        for path in files:
            archive.write(path, f"{folder}/{path.name}")
    packed.seek(0)
    return send_file(packed, mimetype="application/zip", as_attachment=True, download_name=name)


def send_text(text: str, mimetype: str, name: str):
    """Answer with a text as a download called `name`, whatever letters that has."""
    return send_file(io.BytesIO(text.encode()), mimetype=mimetype, as_attachment=True, download_name=name)


def stem_of(name: str) -> str:
    """Return what files of a shot are called: its name's first word, in small letters and digits."""
    return "".join(c if c.isalnum() else "_" for c in name.split()[0].lower()) if name.split() else "shot"


def who() -> str:
    """Answer who is asking. Until there are accounts, everyone on this machine is the artist."""
    return "artist"
