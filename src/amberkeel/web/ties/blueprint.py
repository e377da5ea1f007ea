"""The blueprint of the ties stage."""

from flask import Blueprint

blueprint = Blueprint("ties", __name__)
