"""Where things are: read once from the environment, which the local services or a farm's set-up provide."""

import os
from dataclasses import dataclass, field
from pathlib import Path

from amberkeel.core.errors import KeelError
from amberkeel.running import answers, read_record

LOOPBACK = ("localhost", "127.0.0.1", "[::1]")
"""Names of this machine."""


@dataclass(frozen=True)
class Settings:
    """Addresses and folders of one installation.

    Attributes
    ----------
    database, broker : addresses with credentials. secret : signs sessions and forms.
    media : folder of frames, proxies and results by content hash.
    plate_roots : folders that the browser may pick plates from. hosts : names under which the application may be asked
        for: any other is refused, so that no foreign page reaches it by a name of its own (DNS rebinding). tokens : of
        pipelines that may ask the JSON API, by whose they are.
    """

    database: str
    broker: str
    secret: str
    media: Path
    plate_roots: tuple[Path, ...]
    hosts: tuple[str, ...] = LOOPBACK
    tokens: dict[str, str] = field(default_factory=dict)


def from_environment() -> Settings:
    """Return the settings that the environment names; raises KeyError for one that is missing."""
    roots = os.environ.get("AMBERKEEL_PLATE_ROOTS", "")
    return Settings(
        os.environ["AMBERKEEL_DATABASE"],
        os.environ["AMBERKEEL_BROKER"],
        os.environ["AMBERKEEL_SECRET"],
        Path(os.environ["AMBERKEEL_MEDIA"]),
        tuple(Path(r).resolve() for r in roots.split(os.pathsep) if r),
        tuple(os.environ.get("AMBERKEEL_HOSTS", ",".join(LOOPBACK)).split(",")),
        _tokens(os.environ.get("AMBERKEEL_API_TOKENS", "")),
    )


SERVICES_FILE = "services.json"
"""In a data folder, while its services run: the environment in which they are found."""


def join_running(data: Path) -> Settings:
    """Return the settings of the installation that the environment names, or else of the application that runs with a
    data folder, whose environment this process then has.

    Raises
    ------
    KeelError : nothing runs there.
    """
    if "AMBERKEEL_DATABASE" not in os.environ:
        told = read_record(data / SERVICES_FILE)
        if not answers(told.get("AMBERKEEL_DATABASE", "")):
            raise KeelError(
                f"No application runs with the data folder {data}.",
                "Start it with ./keel demo, name its folder with --data, or set the farm's AMBERKEEL_ variables.",
            )
        os.environ.update(told)
    return from_environment()


LEAST_TOKEN = 16
"""Letters of a token at the least: shorter ones can be guessed."""


def _tokens(text: str) -> dict[str, str]:
    """Return tokens by whose they are, from ``name:token`` with commas between; short ones are left out."""
    pairs = [one.strip().partition(":") for one in text.split(",") if ":" in one]
    return {name: token for name, _, token in pairs if name and len(token) >= LEAST_TOKEN}
