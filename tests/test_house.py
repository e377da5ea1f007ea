"""What holds the code together: layers, the linters of Python and of scripts, and the types of the core."""

import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
PARTS = ("src", "tests", "benchmarks", "docs")


def test_layers_hold():
    from importlinter.cli import lint_imports

    assert lint_imports(config_filename=str(ROOT / "pyproject.toml"), no_cache=True) == 0


@pytest.mark.parametrize(
    "command",
    [
        [sys.executable, "-m", "ruff", "check", "--no-cache", *PARTS],
        [sys.executable, "-m", "ruff", "format", "--no-cache", "--check", *PARTS],
        [sys.executable, "-m", "mypy", "--cache-dir", "/dev/null"],
        ["node_modules/.bin/biome", "check"],
    ],
    ids=["python", "layout", "types", "scripts"],
)
def test_the_linters_find_nothing(command):
    run = subprocess.run(command, cwd=ROOT, capture_output=True, text=True)
    assert run.returncode == 0, run.stdout + run.stderr


def test_scripts_keep_to_120_columns():
    desk = ROOT / "src" / "amberkeel" / "web" / "static" / "desk"
    long = [
        f"{p.name}:{k}"
        for p in desk.rglob("*.js")
        for k, line in enumerate(p.read_text().split("\n"), 1)
        if len(line) > 120
    ]
    assert not long
