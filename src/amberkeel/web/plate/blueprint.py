"""The blueprint of the plate stage, which its views register with."""

from flask import Blueprint

blueprint = Blueprint("plate", __name__)
