"""The blueprint of the handoff stage."""

from flask import Blueprint

blueprint = Blueprint("handoff", __name__)
