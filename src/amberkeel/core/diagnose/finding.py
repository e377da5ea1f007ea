"""A finding: a sentence, how serious and how sure it is, the frames and tracks that show it, and what could help."""

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field

from amberkeel.core.tracks import TrackSet

SERIOUS, NOTABLE, MINOR, CALM = "serious", "notable", "minor", "calm"

SEVERITIES = (SERIOUS, NOTABLE, MINOR, CALM)
"""From what spoils the camera to what needs nothing done."""


@dataclass(frozen=True)
class Remedy:
    """Something that could help.

    Attributes
    ----------
    code : one of `core.repair.remedies.REMEDIES`, or "advice" for what only a person can do. words : what it does, as a
        button says it. tracks : ids. frames : numbers. cuts : a track's id and the first and last frame that it loses.
    word : a name, such as the motion to solve with.
    """

    code: str
    words: str
    tracks: tuple[int, ...] = ()
    frames: tuple[int, ...] = ()
    cuts: tuple[tuple[int, int, int], ...] = ()
    word: str = ""


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
    return float(over * over / (over * over + 1.0))


def named(verb: str, ids: Sequence[int], tracks: TrackSet) -> str:
    """Return what is done with tracks in words: with the one's name, or how many they are."""
    if len(ids) > 1:
        return f"{verb} {len(ids)} tracks"
    return f"{verb} {tracks.names[int((tracks.ids == ids[0]).argmax())]}" if ids else verb


def finding_document(finding: Finding) -> dict:
    """Return a finding as plain values for JSON."""
    return asdict(finding)


def read_remedy(document: Mapping) -> Remedy:
    """Return a remedy from plain values."""
    cuts = tuple((int(t), int(a), int(z)) for t, a, z in document.get("cuts", ()))
    return Remedy(
        document["code"], document["words"], tuple(document.get("tracks", ())), tuple(document.get("frames", ())), cuts,
        document.get("word", ""),
    )  # fmt: skip


def read_finding(document: Mapping) -> Finding:
    """Return a finding from plain values."""
    return Finding(
        document["kind"], document["severity"], document["confidence"], document["text"], tuple(document["frames"]),
        tuple(document["tracks"]), tuple(map(read_remedy, document["remedies"])), dict(document["figures"]),
    )  # fmt: skip
