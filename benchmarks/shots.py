"""Demo shots on disk for the benchmarks, rendered once into var/bench."""

from pathlib import Path

from amberkeel.core.sim.write import write_shot

FOLDER = Path(__file__).parents[1] / "var" / "bench"


def shot_folder(name: str) -> Path:
    """Return the folder of a rendered shot: plate/, mattes/, truth.json."""
    folder = FOLDER / name
    if not (folder / "truth.json").exists():
        print(f"Rendering {name} (once)", flush=True)
        write_shot(name, folder)
    return folder
