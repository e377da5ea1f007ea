"""A finding: a sentence, how serious and how sure it is, the frames and tracks that show it, and what could help."""

from dataclasses import dataclass, field

SERIOUS, NOTABLE, MINOR, CALM = "serious", "notable", "minor", "calm"

SEVERITIES = (SERIOUS, NOTABLE, MINOR, CALM)
"""From what spoils the camera to what needs nothing done."""


@dataclass(frozen=True)
class Remedy:
    """Something that could help: a code, the tracks and frames that it is about, and figures.

    Codes: exclude, cut (tracks on frames), refollow, add (tracks on frames), free-distortion, zoom, rows, motion (its
    name in `word`), bridge (frames of the path), mask.
    """

    code: str
    tracks: tuple[int, ...] = ()
    frames: tuple[int, ...] = ()
    word: str = ""
    figures: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Finding:
    """One thing that was found.

    Attributes
    ----------
    kind : its code, as the files of rules name it. severity : one of `SEVERITIES`. confidence : 0 to 1, how far past
        its threshold the measure lies. text : one sentence in plain words. frames : frame numbers. tracks : ids.
    remedies : best first. figures : what was measured, with the unit in the name.
    """

    kind: str
    severity: str
    confidence: float
    text: str
    frames: tuple[int, ...] = ()
    tracks: tuple[int, ...] = ()
    remedies: tuple[Remedy, ...] = ()
    figures: dict[str, float] = field(default_factory=dict)

    @property
    def rank(self) -> tuple[int, float]:
        """What findings are ordered by: the most serious first, among those the surest."""
        return SEVERITIES.index(self.severity), -self.confidence


def surety(measure: float, threshold: float) -> float:
    """Return how sure a finding is whose measure lies past its threshold: a half at it, 0.9 at three times."""
    over = max(measure / threshold, 0.0)
    return over * over / (over * over + 1.0)
