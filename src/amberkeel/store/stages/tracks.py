"""The tracks stage's state."""

from amberkeel.store.stages.state import Facts, Stage


def stage(facts: Facts) -> Stage:
    """Return the stage with its fact; it needs another look while masks cover samples of its tracks."""
    total, shot = facts.tracks, facts.shot
    uncut = total > 0 and shot.masks_stamp != shot.followed_stamp
    state = facts.state("follow", total > 0, uncut)
    return Stage("tracks", "Tracks", state, f"{total} tracks" if total else "none yet")
