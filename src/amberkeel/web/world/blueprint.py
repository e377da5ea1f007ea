"""The blueprint of the world stage."""

from flask import Blueprint

blueprint = Blueprint("world", __name__)
