"""The blueprint of the lens stage, which its views register with."""

from flask import Blueprint

blueprint = Blueprint("lens", __name__)
