"""Modules of the desk's scripts run by node, for what needs no page."""

import json
import subprocess
from pathlib import Path

DESK = Path(__file__).parents[1] / "src" / "amberkeel" / "web" / "static" / "desk"


def run_module(name: str, body: str, argument=None):
    """Run JavaScript with a desk module as `m` and an argument as `a`, and return what it returns."""
    script = (
        f"import * as m from {json.dumps((DESK / f'{name}.js').as_uri())};"
        f"const a = {json.dumps(argument)};"
        f"process.stdout.write(JSON.stringify((() => {{ {body} }})() ?? null));"
    )
    command = ["node", "--no-warnings", "--input-type=module", "-e", script]
    run = subprocess.run(command, capture_output=True, text=True, timeout=60)
    assert run.returncode == 0, run.stderr
    return json.loads(run.stdout)
