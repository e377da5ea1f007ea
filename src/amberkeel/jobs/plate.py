"""What the job of the plate stage does: proxies, and what is measured on every frame."""

from amberkeel.core.follow.blur import glance, motion_blurs
from amberkeel.core.pictures.read import to_gray
from amberkeel.core.pictures.write import encode_jpeg
from amberkeel.core.plate.cadence import CadenceWatch, cadence_words
from amberkeel.core.plate.look import shrunk
from amberkeel.core.progress import Progress
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.images import open_row, plate_row
from amberkeel.settings import Settings
from amberkeel.store.media import Media
from amberkeel.store.models import Plate


def ingest(settings: Settings, shot_id: int, arguments: Arguments, progress: Progress) -> None:
    """Read every frame once, make its proxy, measure its blur, and find out whether the plate is whole and even."""
    row, media = plate_row(settings, shot_id), Media(settings.media)
    plate, hashes, seen, cadence = open_row(row), [], [], CadenceWatch()
    for k, frame in enumerate(plate.frames.tolist()):
        picture = plate.read(frame)
        gray = to_gray(picture)
        seen.append(glance(gray))
        cadence.see(gray)
        hashes.append(media.put(encode_jpeg(shrunk(picture, 1920, row.pixel_aspect))))
        if k == len(plate.frames) // 2:
            thumbnail = media.put(encode_jpeg(shrunk(picture, 480, row.pixel_aspect), 85))
        progress((k + 1) / len(plate.frames), f"Making proxies, frame {frame}")
    blur = motion_blurs(seen)
    with effect(settings, shot_id, arguments) as opened:
        kept = opened.get(Plate, row.id)
        if (kept.source, kept.first, kept.last) != (row.source, row.first, row.last):
            return
        kept.proxies, kept.thumbnail = hashes, thumbnail
        kept.blur = {"length": [round(b.length, 2) for b in blur], "angle": [round(b.angle, 3) for b in blur]}
        kept.odd = [*plate.odd, *cadence_words(cadence.told(), plate.frames)]
        kept.times = [] if plate.times is None else plate.times.round(6).tolist()
