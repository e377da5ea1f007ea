"""The casebook: findings' remedies tried, what came of them kept or dropped, the limit and the path's repairs."""

from dataclasses import asdict

from flask import Blueprint, abort, jsonify, request

from amberkeel.core.diagnose.finding import Remedy
from amberkeel.core.errors import KeelError
from amberkeel.core.plate.sequence import spans
from amberkeel.core.repair.improve import check_effort
from amberkeel.core.repair.limit import Limit, over_limit
from amberkeel.core.repair.smooth import CHANNELS, MOST_STRENGTH, POSITION
from amberkeel.core.units import maybe_number
from amberkeel.jobs.queue import wake
from amberkeel.store import edits
from amberkeel.store.casebook import casebook
from amberkeel.store.models import Attempt
from amberkeel.store.solve import solution_of
from amberkeel.store.stages import pinned
from amberkeel.store.trials import begin_trials, departure_of, own_trial, remedy_of, steps_to_keep
from amberkeel.web.common import get_shot, media, open_session, shot_to_change, who
from amberkeel.web.jobs import start
from amberkeel.web.sent import Body, Whole, Word, sent
from amberkeel.web.state import shot_state

blueprint = Blueprint("casebook", __name__)

MOST_FRAMES = 2000
"""Frames that a repair may name."""


class Pick(Body):
    """A remedy of a finding: the finding's kind and place in the casebook, and which of its remedies."""

    kind: Word
    at: Whole = 0
    remedy: Whole = 0


class Picks(Body):
    """Remedies to try, each as a trial of its own; none means the first of every finding."""

    picks: list[Pick] = []


@blueprint.post("/shots/<int:number>/try")
def try_remedies(number: int):
    """Try remedies of the casebook, each in the background."""
    asked = sent(Picks)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        found = casebook(opened, shot, pinned(opened, shot))
        if asked.picks:
            chosen = [(one.kind, _remedy(found, one)) for one in asked.picks]
        else:
            chosen = [(one.kind, one.remedies[0]) for one in found if one.remedies and one.remedies[0].code != "advice"]
        begin_trials(opened, shot, chosen, who())
        answer = shot_state(opened, shot)
    wake()
    return jsonify(answer)


def _remedy(found: list, pick: Pick) -> Remedy:
    own = [one for one in found if one.kind == pick.kind]
    if not 0 <= pick.at < len(own) or not 0 <= pick.remedy < len(own[pick.at].remedies):
        raise KeelError("That finding is gone.", "The casebook shows what is found now.")
    return own[pick.at].remedies[pick.remedy]


class Repair(Body):
    """A repair that a person asks for: its code, the frames it is for, and its figure."""

    code: Word
    frames: list[Whole] = []
    value: Word = ""
    unit: Word = "sigma"
    least: Word = ""
    channels: Word = POSITION


@blueprint.post("/shots/<int:number>/repair")
def repair(number: int):
    """Try a repair of the path, of frames, or a limit, as a trial."""
    asked = sent(Repair)
    if asked.code not in _REPAIRS:
        raise KeelError(f"There is no repair “{asked.code}”.")
    remedy = _REPAIRS[asked.code](asked)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        begin_trials(opened, shot, [("", remedy)], who())
        answer = shot_state(opened, shot)
    wake()
    return jsonify(answer)


def _frames(asked: Repair) -> tuple[tuple[int, ...], str]:
    """Return the frames from the first to the last one named, and what they are called."""
    if not asked.frames:
        raise KeelError("No frames are chosen.", "Brush a lane over the frames to repair.")
    first, last = min(asked.frames), max(asked.frames)
    if last - first >= MOST_FRAMES:
        raise KeelError(f"{last - first + 1} frames are too many for one repair.", f"Choose up to {MOST_FRAMES}.")
    frames = tuple(range(first, last + 1))
    return frames, f"frame {first}" if first == last else f"frames {spans(frames)}"


def _bridge(asked: Repair) -> Remedy:
    frames, where = _frames(asked)
    if asked.channels not in CHANNELS:
        raise KeelError(f"There are no channels “{asked.channels}”.", f"Choose {', '.join(CHANNELS)}.")
    what = {"all": "place and turn on ", "rotation": "turn on "}.get(asked.channels, "")
    return Remedy("bridge", f"Bridge {what}{where}", frames=frames, word=asked.channels)


def _less(asked: Repair) -> Remedy:
    frames, where = _frames(asked)
    return Remedy("down-weight", f"Let {where} count less", frames=frames)


def _again(asked: Repair) -> Remedy:
    frames, where = _frames(asked)
    return Remedy("again", f"Measure {where} again from the camera", frames=frames)


def _through(_asked: Repair) -> Remedy:
    return Remedy("through-blur", "Measure blurred frames anew")


def _smooth(asked: Repair) -> Remedy:
    strength = maybe_number(asked.value, "The strength in frames", 0.3, MOST_STRENGTH)
    if strength is None:
        raise KeelError("Smoothing needs a strength.", "Type how many frames it reaches, such as 2.")
    frames, where = _frames(asked) if asked.frames else ((), "the path")
    return Remedy("smooth", f"Smooth {where} over {strength:g} frames", frames=frames, word=f"{strength:g}")


def _add(_asked: Repair) -> Remedy:
    return Remedy("add", "Follow more features")


def _limit(asked: Repair) -> Remedy:
    limit = _read_limit(asked.value, asked.unit, asked.least)
    return Remedy(
        "limit", f"Cut what is over {limit.value:g} {limit.unit}", word=f"{limit.value} {limit.unit} {limit.least}"
    )


def _down(_asked: Repair) -> Remedy:
    return Remedy("limit-down", "Lower the limit as long as it helps")


_REPAIRS = {
    "bridge": _bridge, "down-weight": _less, "again": _again, "through-blur": _through, "smooth": _smooth,
    "limit": _limit, "limit-down": _down, "add": _add,
}  # fmt: skip
"""What a person may ask for without a finding: each makes a remedy of what was typed."""


def _read_limit(value: str, unit: str, least: str) -> Limit:
    typed = maybe_number(value, "The limit", 0.0, 1e4)
    if not typed:
        raise KeelError("The limit needs a value above 0.", "Type one, such as 4 sigma or 1.5 px.")
    return Limit(typed, unit, int(maybe_number(least, "The least number of frames", 0, 1e5) or 0))


@blueprint.get("/attempts/<int:number>/limit.json")
def limit(number: int):
    """Send what a limit would take out of an attempt, before it does."""
    asked = _read_limit(request.args.get("value", ""), request.args.get("unit", "sigma"), request.args.get("least", ""))
    with open_session() as opened:
        row = opened.get(Attempt, number) or abort(404)
        get_shot(opened, row.shot_id)
        over = over_limit(solution_of(media(), row), asked)
    return jsonify(
        **asdict(over) | {"spared": list(over.spared), "spared_words": spans(over.spared) if over.spared else ""},
        touched=sorted({track for track, _, _ in over.cuts} | set(over.tracks)),
    )


@blueprint.get("/shots/<int:number>/trials/<int:trial>/paths.json")
def paths(number: int, trial: int):
    """Send where a trial's camera goes otherwise than the attempt's that it was made on, in that attempt's world."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        return jsonify(departure_of(opened, media(), shot, own_trial(opened, shot, trial)))


class Decision(Body):
    """A trial to keep or to drop."""

    trial: Whole


@blueprint.post("/shots/<int:number>/keep")
def keep(number: int):
    """Keep what came of a trial: its changes to the tracks, and its attempt pinned, as one edit."""
    asked = sent(Decision)
    with open_session() as opened:
        payload = steps_to_keep(opened, media(), shot_to_change(opened, number), asked.trial)
        edits.apply(opened, number, "keep", payload, asked.revision)
    with open_session() as opened:
        return jsonify(shot_state(opened, get_shot(opened, number)))


@blueprint.post("/shots/<int:number>/again")
def again(number: int):
    """Try a remedy again on the attempt that is in use now."""
    asked = sent(Decision)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        trial = own_trial(opened, shot, asked.trial)
        begin_trials(opened, shot, [(trial.finding, remedy_of(trial))], who())
        answer = shot_state(opened, shot)
    wake()
    return jsonify(answer)


@blueprint.post("/shots/<int:number>/drop")
def drop(number: int):
    """Drop a trial; what came of it leaves the ledger."""
    asked = sent(Decision)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        trial = own_trial(opened, shot, asked.trial)
        edits.apply(opened, number, "drop", {"trial": trial.id}, asked.revision)
        return jsonify(shot_state(opened, shot))


class Work(Body):
    """How much the loop may try."""

    effort: Word = "usual"


@blueprint.post("/shots/<int:number>/improve")
def improve(number: int):
    """Let remedies be tried by themselves, and what helps be kept."""
    asked = sent(Work)
    check_effort(asked.effort)
    return start("improve", number, {"effort": asked.effort})


@blueprint.post("/shots/<int:number>/diagnose")
def diagnose(number: int):
    """Look anew for what is weak about the pinned attempt."""
    return start("diagnose", number, {})
