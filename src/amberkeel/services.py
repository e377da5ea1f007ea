"""PostgreSQL, Redis, a worker and the web server on loopback, as children of one process."""

import hashlib
import os
import pwd
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

import psycopg
import redis

from amberkeel import running
from amberkeel.core.errors import KeelError
from amberkeel.settings import SERVICES_FILE

WEB_PROCESSES = 2
"""Processes that answer pages; none keeps anything that another one lacks."""

PORT_TRIES = 4
"""Ports that are tried for a service, where another process takes each before it is bound."""

HEALTH_S = 60
"""Seconds in which a process of the web server must answer its parent, which ends it otherwise."""

START_S = 180.0
"""Seconds that a service may take until it answers, on a machine that is busy with others."""

LANES = ("all", "people", "short") if (os.cpu_count() or 1) > 1 else ("all",)
"""Lanes of the workers on this machine."""


ENDS_BY = {"postgres": signal.SIGINT, "redis": signal.SIGTERM, "web": signal.SIGTERM}
"""What ends a service at once when the process that started it is gone; a worker gives its job back at SIGQUIT."""


def _private(path: str, flags: int) -> int:
    """Open a file that its owner alone may read, where it is made anew."""
    return os.open(path, flags, 0o600)


def free_port(wanted: int = 0) -> int:
    """Return `wanted` if it is free on loopback, or any free port."""
    for port in (wanted, 0):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", port))
                return probe.getsockname()[1]
            except OSError:
                continue
    raise KeelError("No port is free on loopback.")


def open_to_postgres(folder: Path) -> None:
    """Let the system user that PostgreSQL runs as reach a folder that lies in the system's temporary folder."""
    temporary = Path(tempfile.gettempdir())
    for above in (folder, *folder.parents):
        if above != temporary and above.is_relative_to(temporary) and above.stat().st_uid == os.geteuid():
            above.chmod(above.stat().st_mode | 0o011)


def _postgres_bin() -> Path:
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/postgres"))
    if found:
        return found[-1].parent
    here = shutil.which("postgres")
    if here:
        return Path(here).parent
    raise KeelError("PostgreSQL is not installed.", "Run ./keel again, or install Debian's package postgresql.")


class Local:
    """Services of one data folder. Start with `start`, end with `stop`; data stays."""

    def __init__(self, folder: Path):
        self.folder = Path(folder).resolve()
        self.folder.mkdir(parents=True, exist_ok=True)
        self.lock: running.Lock | None = None
        self.children: dict[str, subprocess.Popen] = {}
        self.commands: dict[str, tuple[list[str], dict]] = {}
        self.keys: dict[str, str] = {}
        self.environment: dict[str, str] = {}

    def _keys(self) -> dict:
        path = self.folder / "keys.json"
        if not path.exists():
            running.write_record(path, {name: secrets.token_hex(24) for name in ("database", "broker", "secret")})
        keys = running.read_record(path)
        if not keys.keys() >= {"database", "broker", "secret"}:
            raise KeelError(f"{path} is broken: the keys of the database are in it.", "Bring it back from a copy.")
        return keys

    def hold(self) -> None:
        """Take the data folder's lock, and end what a start before has left running.

        Raises
        ------
        RunsAlready : an application runs with the folder.
        """
        if self.lock is None:
            self.lock = running.Lock(self.folder)
            running.end_left_behind(self.folder)
            self.keys = self._keys()
            self._close_folder()

    def _close_folder(self) -> None:
        """Leave what lies in the data folder to its owner; PostgreSQL's own user may pass through to its own."""
        self.folder.chmod(0o711 if os.geteuid() == 0 else 0o700)
        for entry in os.scandir(self.folder):
            if entry.name != "postgres" and not entry.is_symlink():
                os.chmod(entry.path, 0o700 if entry.is_dir() else 0o600)

    def start(self, plate_roots: list[Path]) -> dict[str, str]:
        """Start PostgreSQL and Redis; return the environment that everything else runs in.

        Raises
        ------
        RunsAlready : an application runs with the folder.
        """
        self.hold()
        database = self._start_postgres()
        broker = self._start_redis()
        media = self.folder / "media"
        media.mkdir(exist_ok=True)
        self.environment = {
            **os.environ,
            "AMBERKEEL_DATABASE": database,
            "AMBERKEEL_BROKER": broker,
            "AMBERKEEL_SECRET": self.keys["secret"],
            "AMBERKEEL_MEDIA": str(media),
            "AMBERKEEL_PLATE_ROOTS": os.pathsep.join(str(p) for p in plate_roots),
        }
        own = {k: v for k, v in self.environment.items() if k.startswith("AMBERKEEL_")}
        os.environ.update(own)
        running.write_record(self.folder / SERVICES_FILE, own)
        return self.environment

    def _spawn(self, name: str, command: list[str], **options) -> subprocess.Popen:
        marked = {**options.pop("env", os.environ), running.MARK: str(self.folder)}
        with open(self.folder / f"{name}.log", "ab", opener=_private) as log:
            child = subprocess.Popen(
                command, stdout=log, stderr=log, stdin=subprocess.DEVNULL, start_new_session=True, env=marked,
                umask=0o077, preexec_fn=running.dying_with_parent(ENDS_BY.get(name, signal.SIGQUIT)), **options,
            )  # fmt: skip
        self.children[name], self.commands[name] = child, (command, {**options, "env": marked})
        return child

    def _database_owner(self) -> tuple[dict, Path]:
        """PostgreSQL does not run as root: give it Debian's own user, and a folder that user can reach."""
        if os.geteuid() != 0:
            return {}, self.folder / "postgres"
        user = pwd.getpwnam("postgres")
        options = {"user": user.pw_uid, "group": user.pw_gid, "extra_groups": []}
        reach = subprocess.run(["test", "-x", str(self.folder)], **options).returncode == 0
        if reach:
            return options, self.folder / "postgres"
        tag = hashlib.sha256(str(self.folder).encode()).hexdigest()[:10]
        return options, Path(user.pw_dir) / f"amberkeel-{tag}"

    def _start_postgres(self) -> str:
        programs, (options, data) = _postgres_bin(), self._database_owner()
        password = self.keys["database"]
        if not (data / "PG_VERSION").exists():
            data.mkdir(parents=True, exist_ok=True)
            if options:
                os.chown(data, options["user"], options["group"])
            os.chmod(data, 0o700)
            with tempfile.NamedTemporaryFile("w", suffix=".key") as key:
                key.write(password)
                key.flush()
                os.chmod(key.name, 0o600)
                if options:
                    os.chown(key.name, options["user"], options["group"])
                made = subprocess.run(
                    [
                        str(programs / "initdb"), "-D", str(data), "-U", "keel", "--auth=scram-sha-256",
                        f"--pwfile={key.name}", "-E", "UTF8", "--locale=C.UTF-8",
                    ],
                    capture_output=True, text=True, cwd="/", **options,
                )  # fmt: skip
            if made.returncode:
                raise KeelError(f"PostgreSQL's data folder {data} could not be made: {made.stderr.strip()[-300:]}")

        def start(port: int) -> None:
            command = [
                str(programs / "postgres"), "-D", str(data), "-p", str(port), "-c", "listen_addresses=127.0.0.1",
                "-c", "unix_socket_directories=", "-c", "max_connections=200",
            ]  # fmt: skip
            self._spawn("postgres", command, cwd="/", **options)

        def address(port: int) -> str:
            return f"keel:{password}@127.0.0.1:{port}"

        port = self._on_a_port("postgres", 5471, start, lambda port: self._make_database(address(port)))
        return f"postgresql+psycopg://{address(port)}/amberkeel"

    def _on_a_port(self, name: str, wanted: int, start: Callable[[int], None], ready: Callable[[int], object]) -> int:
        """Start a service on a port, on another one where somebody took that between the look and the start; return
        the port. `ready` raises while the service does not answer.
        """
        for tries_left in reversed(range(PORT_TRIES)):
            port = free_port(wanted)
            start(port)
            try:
                self._wait(name, partial(ready, port))
                return port
            except KeelError:
                if not tries_left or self.children[name].poll() is None:
                    raise
        raise AssertionError("no try was made")

    @staticmethod
    def _make_database(address: str) -> None:
        with psycopg.connect(f"postgresql://{address}/postgres", autocommit=True, connect_timeout=2) as link:
            if not link.execute("select 1 from pg_database where datname = 'amberkeel'").fetchone():
                link.execute("create database amberkeel")

    def _start_redis(self) -> str:
        if not shutil.which("redis-server"):
            raise KeelError("Redis is not installed.", "Run ./keel again, or install Debian's package redis-server.")
        password, config = self.keys["broker"], self.folder / "redis.conf"

        def start(port: int) -> None:
            config.touch(mode=0o600)
            config.write_text(
                f"bind 127.0.0.1\nport {port}\nrequirepass {password}\ndir {self.folder}\n"
                "dbfilename redis.rdb\nsave 60 1\nappendonly no\n"
            )
            self._spawn("redis", ["redis-server", str(config)])

        port = self._on_a_port("redis", 6471, start, lambda port: redis.Redis(port=port, password=password).ping())
        return f"redis://:{password}@127.0.0.1:{port}/0"

    def _wait(self, name: str, ready, seconds: float = START_S) -> None:
        """Wait until a service answers; raises KeelError with the end of its log when it does not."""
        until = time.monotonic() + seconds
        while True:
            try:
                ready()
                return
            except Exception:
                if self.children[name].poll() is not None or time.monotonic() > until:
                    log = (self.folder / f"{name}.log").read_text(errors="replace")[-600:]
                    raise KeelError(
                        f"{name} did not start:\n{log}", f"The whole log is {self.folder / name}.log."
                    ) from None
                time.sleep(0.1)

    def start_workers(self, lanes: tuple[str, ...] = LANES) -> None:
        """Start a worker a lane (see `jobs.queue`), each of which runs one job at a time."""
        for lane in lanes:
            command = [
                sys.executable, "-m", "celery", "-A", "amberkeel.jobs.queue:celery", "worker", "-Q", lane,
                "-n", f"{lane}@%h", "--concurrency=1", "--loglevel=WARNING", "--without-gossip", "--without-mingle",
            ]  # fmt: skip
            self._spawn(f"worker-{lane}", command, env=self.environment)

    def start_web(self, port: int = 0, processes: int = WEB_PROCESSES) -> str:
        """Start the web server on a port, or any, of so many processes; return its address."""

        def start(port: int) -> None:
            command = [
                sys.executable, "-m", "uvicorn", "amberkeel.web.server:make", "--factory", "--host", "127.0.0.1",
                "--port", str(port), "--workers", str(processes), "--log-level", "warning", "--no-access-log",
                "--no-server-header", "--timeout-graceful-shutdown", "2",
                "--timeout-worker-healthcheck", str(HEALTH_S),
            ]  # fmt: skip
            self._spawn("web", command, env=self.environment)

        def answers(port: int) -> None:
            with socket.create_connection(("127.0.0.1", port), timeout=1):
                pass

        return f"http://127.0.0.1:{self._on_a_port('web', port, start, answers)}"

    def revive(self) -> None:
        """Start again what ended on its own: database, broker, worker or web server, each where it was."""
        for name, (command, options) in list(self.commands.items()):
            if self.children[name].poll() is not None:
                self._spawn(name, command, **options)

    def stop(self) -> None:
        """Stop everything that was started here, the last first."""
        if self.lock is None:
            return
        (self.folder / SERVICES_FILE).unlink(missing_ok=True)
        for name in reversed(list(self.children)):
            child = self.children[name]
            if child.poll() is None:
                child.send_signal(signal.SIGINT if name == "postgres" else signal.SIGTERM)
                try:
                    child.wait(10)
                except subprocess.TimeoutExpired:
                    child.kill()
                    child.wait()
        self.children.clear()
        self.commands.clear()
        self.lock.release()
        self.lock = None
