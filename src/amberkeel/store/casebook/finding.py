"""One finding of the casebook."""

from dataclasses import dataclass, field


@dataclass(frozen=True)
class Finding:
    """A sentence, whether it says that all is well, and the tracks that show it."""

    text: str
    fine: bool = False
    tracks: list[int] = field(default_factory=list)
