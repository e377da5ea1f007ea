"""The web application: thin views over store, jobs and core."""

from flask import Flask, jsonify, render_template, request
from flask_wtf.csrf import CSRFError, CSRFProtect

from amberkeel.core.errors import KeelError
from amberkeel.settings import Settings, from_environment
from amberkeel.store.edits import StaleEdit

MAX_UPLOAD_BYTES = 8 * 1024**3
csrf = CSRFProtect()


def create_app(settings: Settings | None = None) -> Flask:
    """Make the application from settings, or from the environment's."""
    app = Flask(__name__)
    app.settings = settings or from_environment()
    app.config.update(
        SECRET_KEY=app.settings.secret,
        MAX_CONTENT_LENGTH=MAX_UPLOAD_BYTES,
        MAX_FORM_PARTS=6000,
        SESSION_COOKIE_SAMESITE="Lax",
        WTF_CSRF_TIME_LIMIT=None,
        SEND_FILE_MAX_AGE_DEFAULT=0,
        TEMPLATES_AUTO_RELOAD=True,
    )
    csrf.init_app(app)
    from amberkeel.web.areas import AREAS

    for area in AREAS:
        app.register_blueprint(area.blueprint)
    app.register_error_handler(KeelError, _say)
    app.register_error_handler(
        404,
        lambda e: (render_template("message.html", title="Not here", text="There is nothing at this address."), 404),
    )
    app.register_error_handler(413, lambda e: _answer("That is larger than 8 GiB, the most one upload may be.", 413))
    app.register_error_handler(CSRFError, lambda e: _answer("This page is out of date. Load it again.", 400))
    app.after_request(_headers)
    return app


def _say(error: KeelError):
    return _answer(str(error), 409 if isinstance(error, StaleEdit) else 400)


def _answer(text: str, status: int):
    if request.accept_mimetypes.best == "application/json" or request.is_json:
        return jsonify(error=text), status
    return render_template("message.html", title="That did not work", text=text), status


def _headers(response):
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    response.headers["Content-Security-Policy"] = (
        "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; script-src 'self' "
        "'nonce-map'"
    )
    return response
