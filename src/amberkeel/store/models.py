"""The tables."""

from datetime import UTC, datetime

from sqlalchemy import (
    ARRAY,
    BigInteger,
    ColumnElement,
    Float,
    ForeignKey,
    Index,
    Integer,
    String,
    UniqueConstraint,
    func,
    text,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship


def now() -> datetime:
    """Return the present time in UTC."""
    return datetime.now(UTC).replace(tzinfo=None)


def database_now() -> ColumnElement[datetime]:
    """Return the present time in UTC by the clock of the database, which all machines share, as an expression."""
    return func.timezone("utc", func.clock_timestamp())


class Base(DeclarativeBase):
    """All tables."""


class Production(Base):
    """A job with its shots. `deleted` is when it was deleted, for which it is kept a while; its shots go with it."""

    __tablename__ = "production"
    __table_args__ = (Index("production_live_name", "name", unique=True, postgresql_where=text("deleted IS NULL")),)
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(80))
    note: Mapped[str] = mapped_column(String(400), default="")
    archived: Mapped[bool] = mapped_column(default=False)
    deleted: Mapped[datetime | None]
    created: Mapped[datetime] = mapped_column(default=now)
    shots: Mapped[list["Shot"]] = relationship(
        primaryjoin="and_(Production.id == Shot.production_id, Shot.deleted.is_(None))",
        order_by="Shot.name",
        viewonly=True,
    )


class Shot(Base):
    """One camera take.

    `revision` rises with every change; `attempts` is the number of the newest attempt, removed ones too.
    `tracks_stamp` is another number for other tracks, the old one after undo.
    `masks_stamp` is a number for what the masks hide; `followed_stamp` is the one that the tracks were followed, or
    last cut, with. `groups` holds each group's colour and whether it is hidden; `sightings` a media hash; `tags` what
    the last search for tags reported. `lens` holds drawn lines by name and what is known and wanted of the lens;
    `profile_id` is the lens profile in use, `lens_stamp` a number for it and the pixel aspect. `constraints` holds what
    is known of the set and of the camera's path, as `core.solve.evidence.statement` has it, tracks by id.
    `datum` is what `core.world.statement` has; `scene` holds proxies and probe objects by id, as `core.world.standing`
    has them. `ties` names the set that the shot is tied to, its ties by key, and how it was aligned last
    (`store.ties`); `bodies` holds the rigid things in it that move on their own (`store.bodies`).
    """

    __tablename__ = "shot"
    __table_args__ = (
        Index("shot_live_name", "production_id", "name", unique=True, postgresql_where=text("deleted IS NULL")),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    production_id: Mapped[int] = mapped_column(ForeignKey("production.id"))
    name: Mapped[str] = mapped_column(String(80))
    note: Mapped[str] = mapped_column(String(400), default="")
    revision: Mapped[int] = mapped_column(default=0)
    attempts: Mapped[int] = mapped_column(default=0)
    tracks_stamp: Mapped[int] = mapped_column(default=0)
    masks_stamp: Mapped[int] = mapped_column(default=0)
    followed_stamp: Mapped[int] = mapped_column(default=0)
    pinned_id: Mapped[int | None]
    datum: Mapped[dict] = mapped_column(JSONB, default=dict)
    scene: Mapped[dict] = mapped_column(JSONB, default=dict)
    constraints: Mapped[list] = mapped_column(JSONB, default=list)
    ties: Mapped[dict] = mapped_column(JSONB, default=dict)
    bodies: Mapped[dict] = mapped_column(JSONB, default=dict)
    groups: Mapped[dict] = mapped_column(JSONB, default=dict)
    sightings: Mapped[str] = mapped_column(String(64), default="")
    tags: Mapped[dict] = mapped_column(JSONB, default=dict)
    lens: Mapped[dict] = mapped_column(JSONB, default=dict)
    lens_stamp: Mapped[int] = mapped_column(default=0)
    profile_id: Mapped[int | None] = mapped_column(ForeignKey("lens_profile.id"))
    archived: Mapped[bool] = mapped_column(default=False)
    deleted: Mapped[datetime | None]
    created: Mapped[datetime] = mapped_column(default=now)
    production: Mapped[Production] = relationship()
    plate: Mapped["Plate"] = relationship(back_populates="shot", uselist=False)


class Plate(Base):
    """A shot's pictures; `proxies` holds one media hash a frame.

    `encoding` says how values stand for light, empty where the files do; `odd` what is odd about them, in words;
    `times` the seconds of each frame from the first where the rate is not even; `stated` which facts the files'
    metadata stated, as they did. `blur` holds length (pixels) and angle (radians) of a frame's motion blur; `stack` the
    tracking copy's operations; `replaced` where the images lie that may stand in; `motion` the hash of what moves on
    its frames, where that was looked for.
    """

    __tablename__ = "plate"
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"), unique=True)
    source: Mapped[str] = mapped_column(String(1000))
    label: Mapped[str] = mapped_column(String(200))
    first: Mapped[int]
    last: Mapped[int]
    width: Mapped[int]
    height: Mapped[int]
    fps: Mapped[str] = mapped_column(String(20), default="24/1")
    pixel_aspect: Mapped[float] = mapped_column(default=1.0)
    sensor_width_mm: Mapped[float] = mapped_column(default=24.0)
    focal_mm: Mapped[float | None]
    proxies: Mapped[list[str]] = mapped_column(ARRAY(String(64)), default=list)
    thumbnail: Mapped[str] = mapped_column(String(64), default="")
    blur: Mapped[dict] = mapped_column(JSONB, default=dict)
    stack: Mapped[list] = mapped_column(JSONB, default=list)
    replaced: Mapped[str] = mapped_column(String(1000), default="")
    encoding: Mapped[str] = mapped_column(String(20), default="")
    odd: Mapped[list[str]] = mapped_column(ARRAY(String(400)), default=list)
    times: Mapped[list[float]] = mapped_column(ARRAY(Float), default=list)
    stated: Mapped[dict] = mapped_column(JSONB, default=dict)
    motion: Mapped[str] = mapped_column(String(64), default="")
    shot: Mapped[Shot] = relationship(back_populates="plate")

    @property
    def count(self) -> int:
        """Number of frames."""
        return self.last - self.first + 1

    @property
    def ready(self) -> bool:
        """Whether every frame's proxy is there."""
        return len(self.proxies) == self.count


class Track(Base):
    """A 2D track; samples are arrays.

    `keys` are the frames set by hand; `made` says how it was followed: images, operations, settings, surface.
    """

    __tablename__ = "track"
    __table_args__ = (
        Index("track_live_name", "shot_id", "run", "name", unique=True, postgresql_where=text("NOT removed")),
    )
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"), index=True)
    run: Mapped[int] = mapped_column(default=1)
    name: Mapped[str] = mapped_column(String(80))
    kind: Mapped[str] = mapped_column(String(10))
    state: Mapped[str] = mapped_column(String(10))
    removed: Mapped[bool] = mapped_column(default=False)
    frames: Mapped[list[int]] = mapped_column(ARRAY(Integer))
    x: Mapped[list[float]] = mapped_column(ARRAY(Float))
    y: Mapped[list[float]] = mapped_column(ARRAY(Float))
    sigma: Mapped[list[float]] = mapped_column(ARRAY(Float))
    score: Mapped[list[float]] = mapped_column(ARRAY(Float))
    keys: Mapped[list[int]] = mapped_column(ARRAY(Integer), default=list)
    group: Mapped[str] = mapped_column(String(40), default="")
    locked: Mapped[bool] = mapped_column(default=False)
    made: Mapped[dict] = mapped_column(JSONB, default=dict)


class Mask(Base):
    """Where nothing may be followed.

    Kind: shape (keys), or matte (one media hash a frame, from `samples` or brought in).
    """

    __tablename__ = "mask"
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"), index=True)
    name: Mapped[str] = mapped_column(String(80))
    kind: Mapped[str] = mapped_column(String(10))
    colour: Mapped[str] = mapped_column(String(9), default="#d5559a")
    purpose: Mapped[str] = mapped_column(String(10), default="ignore")
    on: Mapped[bool] = mapped_column(default=True)
    removed: Mapped[bool] = mapped_column(default=True)
    first: Mapped[int | None]
    last: Mapped[int | None]
    margin: Mapped[float] = mapped_column(default=0.0)
    keys: Mapped[dict] = mapped_column(JSONB, default=dict)
    frames: Mapped[list[int]] = mapped_column(ARRAY(Integer), default=list)
    mattes: Mapped[list[str]] = mapped_column(ARRAY(String(64)), default=list)
    samples: Mapped[list] = mapped_column(JSONB, default=list)
    cleaning: Mapped[dict] = mapped_column(JSONB, default=dict)
    source: Mapped[str] = mapped_column(String(400), default="")
    created: Mapped[datetime] = mapped_column(default=now)


class Proposal(Base):
    """Something that seems to move, mirror or mislead, with its evidence. State: open, accepted or dismissed."""

    __tablename__ = "proposal"
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"), index=True)
    kind: Mapped[str] = mapped_column(String(12))
    state: Mapped[str] = mapped_column(String(10), default="open")
    frames: Mapped[list[int]] = mapped_column(ARRAY(Integer))
    mattes: Mapped[list[str]] = mapped_column(ARRAY(String(64)), default=list)
    tracks: Mapped[list[int]] = mapped_column(ARRAY(BigInteger), default=list)
    evidence: Mapped[dict] = mapped_column(JSONB, default=dict)
    created: Mapped[datetime] = mapped_column(default=now)


class LensProfile(Base):
    """A lens of a production, as `core.lens.profile` writes it; a change of its document is another version."""

    __tablename__ = "lens_profile"
    id: Mapped[int] = mapped_column(primary_key=True)
    production_id: Mapped[int] = mapped_column(ForeignKey("production.id"), index=True)
    name: Mapped[str] = mapped_column(String(80))
    document: Mapped[dict] = mapped_column(JSONB)
    version: Mapped[int] = mapped_column(default=1)
    removed: Mapped[bool] = mapped_column(default=False)
    created: Mapped[datetime] = mapped_column(default=now)


class FilmSet(Base):
    """A set of a production, as `core.ties.set_file` writes it: named points, and what stands in it; a change is
    another version.

    `reference_id` is the shot that made it, `reference_attempt` the attempt whose world it is; none for a set from a
    survey.
    """

    __tablename__ = "film_set"
    id: Mapped[int] = mapped_column(primary_key=True)
    production_id: Mapped[int] = mapped_column(ForeignKey("production.id"), index=True)
    name: Mapped[str] = mapped_column(String(80))
    document: Mapped[dict] = mapped_column(JSONB)
    reference_id: Mapped[int | None]
    reference_attempt: Mapped[int | None]
    version: Mapped[int] = mapped_column(default=1)
    removed: Mapped[bool] = mapped_column(default=False)
    created: Mapped[datetime] = mapped_column(default=now)


class RecipientRow(Base):
    """A recipient of a production's packages, as `core.handoff.recipient` has it."""

    __tablename__ = "recipient"
    id: Mapped[int] = mapped_column(primary_key=True)
    production_id: Mapped[int] = mapped_column(ForeignKey("production.id"), index=True)
    name: Mapped[str] = mapped_column(String(80))
    document: Mapped[dict] = mapped_column(JSONB)
    removed: Mapped[bool] = mapped_column(default=False)
    created: Mapped[datetime] = mapped_column(default=now)


class Package(Base):
    """A version that was made for a recipient: never changed, never overwritten.

    `folder` is its name under the shot's packages, `manifest` what lies in it, `made_of` by shot the attempt that was
    pinned and what its datum and scene were.
    """

    __tablename__ = "package"
    __table_args__ = (UniqueConstraint("shot_id", "version"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"), index=True)
    recipient: Mapped[str] = mapped_column(String(80))
    version: Mapped[int]
    folder: Mapped[str] = mapped_column(String(300))
    manifest: Mapped[dict] = mapped_column(JSONB)
    made_of: Mapped[dict] = mapped_column(JSONB)
    who: Mapped[str] = mapped_column(String(80), default="artist")
    created: Mapped[datetime] = mapped_column(default=now)


class Attempt(Base):
    """One stored solve: never changed but for what the user calls it, writes on it, whether it was removed, and what
    was measured on it afterwards.

    `document` and `errors` are media hashes; `slip` that of measured slip, `slip_said` what was found by it.
    """

    __tablename__ = "attempt"
    __table_args__ = (UniqueConstraint("shot_id", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"), index=True)
    number: Mapped[int]
    recipe: Mapped[dict] = mapped_column(JSONB)
    snapshot: Mapped[dict] = mapped_column(JSONB)
    figures: Mapped[dict] = mapped_column(JSONB)
    document: Mapped[str] = mapped_column(String(64))
    errors: Mapped[str] = mapped_column(String(64))
    slip: Mapped[str] = mapped_column(String(64), default="")
    slip_said: Mapped[dict] = mapped_column(JSONB, default=dict)
    name: Mapped[str] = mapped_column(String(80), default="")
    note: Mapped[str] = mapped_column(String(400), default="")
    removed: Mapped[bool] = mapped_column(default=False)
    created: Mapped[datetime] = mapped_column(default=now)


class Job(Base):
    """Long work. State: queued, running, done, failed, cancelled or interrupted; for `background` work nobody waits.

    What follows from a job has its `turn`, so that one shot's work is done before the next one's begins.
    """

    __tablename__ = "job"
    __table_args__ = (Index("job_waiting", "background", "id", postgresql_where=text("state = 'queued'")),)
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int | None] = mapped_column(ForeignKey("shot.id"), index=True)
    kind: Mapped[str] = mapped_column(String(20))
    arguments: Mapped[dict] = mapped_column(JSONB, default=dict)
    state: Mapped[str] = mapped_column(String(12), default="queued", index=True)
    progress: Mapped[float] = mapped_column(default=0.0)
    doing: Mapped[str] = mapped_column(String(200), default="Waiting for a worker")
    error: Mapped[str] = mapped_column(String(600), default="")
    result: Mapped[dict] = mapped_column(JSONB, default=dict)
    cancel: Mapped[bool] = mapped_column(default=False)
    background: Mapped[bool] = mapped_column(default=False)
    turn: Mapped[int | None]
    tries: Mapped[int] = mapped_column(default=0)
    created: Mapped[datetime] = mapped_column(default=now)
    started: Mapped[datetime | None]
    ended: Mapped[datetime | None]
    heartbeat: Mapped[datetime] = mapped_column(default=database_now())

    @classmethod
    def order(cls) -> tuple[ColumnElement, ...]:
        """Return what jobs are taken up by: what somebody waits for first, then by turn, then as they were asked."""
        return cls.background, func.coalesce(cls.turn, cls.id), cls.id


class Trial(Base):
    """A remedy tried on an attempt by a job; `decided` is "", kept or dropped.

    `finding` is the kind that it was for, `remedy` what was tried, as `core.diagnose.finding` writes it. `attempt_id`
    is what came of it, beside `base_id`; `comparison` holds both against each other, and `verdict` its word. `change`
    is the media hash of the edits that keeping it makes. `stamp` is that of the tracks it began from.
    """

    __tablename__ = "trial"
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"), index=True)
    base_id: Mapped[int] = mapped_column(ForeignKey("attempt.id"))
    attempt_id: Mapped[int | None] = mapped_column(ForeignKey("attempt.id"))
    job_id: Mapped[int | None] = mapped_column(ForeignKey("job.id"))
    finding: Mapped[str] = mapped_column(String(40), default="")
    remedy: Mapped[dict] = mapped_column(JSONB)
    verdict: Mapped[str] = mapped_column(String(12), default="")
    comparison: Mapped[dict] = mapped_column(JSONB, default=dict)
    change: Mapped[str] = mapped_column(String(64), default="")
    stamp: Mapped[int] = mapped_column(default=0)
    decided: Mapped[str] = mapped_column(String(10), default="")
    who: Mapped[str] = mapped_column(String(80), default="artist")
    created: Mapped[datetime] = mapped_column(default=now)


class Review(Base):
    """A supervisor's word on an attempt: signed off, or sent back with a note on frames; `reason` says why it was
    signed with serious findings open.
    """

    __tablename__ = "review"
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"), index=True)
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id"))
    signed: Mapped[bool]
    note: Mapped[str] = mapped_column(String(2000), default="")
    frames: Mapped[str] = mapped_column(String(200), default="")
    reason: Mapped[str] = mapped_column(String(1000), default="")
    findings: Mapped[list] = mapped_column(JSONB, default=list)
    who: Mapped[str] = mapped_column(String(80), default="artist")
    created: Mapped[datetime] = mapped_column(default=now)


class Edit(Base):
    """One step of a shot's history, with what takes it back, whose it was, and the shot's revision since it was made,
    undone or made again last.
    """

    __tablename__ = "edit"
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"), index=True)
    kind: Mapped[str] = mapped_column(String(30))
    label: Mapped[str] = mapped_column(String(200))
    payload: Mapped[dict] = mapped_column(JSONB)
    inverse: Mapped[dict] = mapped_column(JSONB)
    undone: Mapped[bool] = mapped_column(default=False)
    revision: Mapped[int] = mapped_column(default=0)
    who: Mapped[str] = mapped_column(String(80), default="artist")
    created: Mapped[datetime] = mapped_column(default=now)


class SensorPreset(Base):
    """A sensor size that a user keeps under a name."""

    __tablename__ = "sensor_preset"
    __table_args__ = (UniqueConstraint("owner", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    owner: Mapped[str] = mapped_column(String(80))
    name: Mapped[str] = mapped_column(String(80))
    width_mm: Mapped[float]


class Pulse(Base):
    """When a thread that others rely on was last at work, by the database's clock, and what it said."""

    __tablename__ = "pulse"
    name: Mapped[str] = mapped_column(String(120), primary_key=True)
    at: Mapped[datetime] = mapped_column(default=database_now())
    said: Mapped[str] = mapped_column(String(400), default="")
