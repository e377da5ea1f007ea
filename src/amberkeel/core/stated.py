"""Figures that a person states, as pydantic checks them at the doors."""

from typing import Annotated

from pydantic import Field, FiniteFloat

Coordinate = Annotated[FiniteFloat, Field(gt=-1e7, lt=1e7)]
Positive = Annotated[FiniteFloat, Field(gt=0.0, lt=1e6)]
Triple = tuple[Coordinate, Coordinate, Coordinate]
