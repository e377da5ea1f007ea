"""The blueprint of the tracks stage, which its views register with."""

from flask import Blueprint

blueprint = Blueprint("tracks", __name__)
