"""The areas of the application, each with its blueprint. An area is a file or a folder here and a line in `AREAS`."""

from amberkeel.web import (
    api,
    board,
    casebook,
    desk,
    edits,
    evidence,
    handoff,
    help,
    history,
    jobs,
    keeping,
    lens,
    masks,
    plate,
    solve,
    state,
    subjects,
    ties,
    tracks,
    uncertainty,
    verdict,
    world,
)

AREAS = (
    board, keeping, desk, state, edits, history, jobs, plate, masks, subjects, tracks, lens, solve, casebook, verdict,
    evidence, uncertainty, world, ties, handoff, api, help,
)  # fmt: skip
