"""The areas of the application, each with its blueprint. An area is a file or a folder here and a line in `AREAS`."""

from amberkeel.web import (
    board,
    desk,
    edits,
    evidence,
    handoff,
    jobs,
    lens,
    masks,
    plate,
    solve,
    state,
    tracks,
    uncertainty,
    world,
)

AREAS = (board, desk, state, edits, jobs, plate, masks, tracks, lens, solve, evidence, uncertainty, world, handoff)
