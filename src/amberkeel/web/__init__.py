"""The web application: thin views over store, jobs and core."""

import hashlib
import secrets

from flask import Flask, g, jsonify, render_template, request
from flask_wtf.csrf import CSRFError, CSRFProtect
from sqlalchemy.exc import OperationalError

from amberkeel.core.errors import KeelError, disk_words, without_folders
from amberkeel.settings import Settings, from_environment
from amberkeel.store.edits import StaleEdit
from amberkeel.store.refused import met, refusal
from amberkeel.store.session import actor
from amberkeel.web import statics
from amberkeel.web.door import guard

MAX_UPLOAD_BYTES = 8 * 1024**3
csrf = CSRFProtect()


def create_app(settings: Settings | None = None) -> Flask:
    """Make the application from settings, or from the environment's."""
    app = Flask(__name__, static_folder=None)
    app.settings = settings or from_environment()
    app.config.update(
        SECRET_KEY=app.settings.secret,
        MAX_CONTENT_LENGTH=MAX_UPLOAD_BYTES,
        MAX_FORM_PARTS=6000,
        TRUSTED_HOSTS=list(app.settings.hosts),
        SESSION_COOKIE_SAMESITE="Lax",
        # Cookies do not tell ports apart: two installations on one machine must not take each other's.
        SESSION_COOKIE_NAME=f"keel-{hashlib.sha256(app.settings.secret.encode()).hexdigest()[:12]}",
        WTF_CSRF_TIME_LIMIT=None,
        SEND_FILE_MAX_AGE_DEFAULT=0,
        TEMPLATES_AUTO_RELOAD=True,
    )
    csrf.init_app(app)
    guard(app)
    statics.serve(app)
    from amberkeel.web.areas import AREAS

    for area in AREAS:
        app.register_blueprint(area.blueprint)
    app.register_error_handler(KeelError, _say)
    app.register_error_handler(OperationalError, _database_refused)
    app.register_error_handler(OSError, _disk_refused)
    app.register_error_handler(
        404,
        lambda e: (render_template("message.html", title="Not here", text="There is nothing at this address."), 404),
    )
    app.register_error_handler(
        413, lambda e: answer("That is larger than a request may be: 32 MiB, and 8 GiB for an upload.", 413)
    )
    app.register_error_handler(400, lambda e: answer("That request cannot be read.", 400))
    app.register_error_handler(CSRFError, lambda e: answer("This page is out of date. Load it again.", 400))
    app.before_request(_act)
    app.after_request(_headers)
    app.jinja_env.globals["nonce"] = nonce
    return app


def _act() -> None:
    """Record the edits of this request as those of who is asking."""
    from amberkeel.web.common import who

    actor.set(who())


def _say(error: KeelError):
    return answer(without_folders(str(error)), 409 if isinstance(error, StaleEdit) else 400)


def _database_refused(error: OperationalError):
    refused = refusal(error)
    if refused is not None:
        return answer(str(refused), 507)
    if met(error):
        return answer("Somebody changed the same things at that moment. Nothing was changed here: do it again.", 409)
    return answer("The database does not answer. Nothing was changed: try again in a moment.", 503)


def _disk_refused(error: OSError):
    """Say in words that a disk is full, wherever that strikes; any other error is a fault of the program."""
    words = disk_words(error)
    if words is None:
        raise error
    return answer(words, 507)


def answer(text: str, status: int):
    """Answer with words, as JSON where a script asked, else as a page."""
    if request.accept_mimetypes.best == "application/json" or request.is_json:
        return jsonify(error=text), status
    return render_template("message.html", title="That did not work", text=text), status


def nonce() -> str:
    """Return this request's word that lets a page's own import map run."""
    if "nonce" not in g:
        g.nonce = secrets.token_urlsafe(16)
    return g.nonce


def _headers(response):
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    response.headers["Content-Security-Policy"] = (
        "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'; "
        f"base-uri 'none'; object-src 'none'; form-action 'self'; script-src 'self' 'nonce-{nonce()}'"
    )
    return response
