"""The trust's data for May 2031: fictional, small, and reproducible."""

from __future__ import annotations

import hashlib
import io
import json
import math
import random
import struct
import zipfile
import zlib
from array import array
from collections.abc import Iterator

Files = dict[str, bytes]

STATIONS = ("north-sluice", "reedbed", "mere-outlet")
HIDES = ("causeway", "alder", "long-reach")
BIRDS = ("teal", "wigeon", "lapwing", "snipe", "bittern", "marsh harrier", "water rail")
SPOILT = "maps/reedbed_2031.png"
"""The file whose checksum in the trust's list is wrong."""


def make_files() -> Files:
    """Return all the files of the trust's web server by path."""
    files: Files = {}
    for day in range(1, 13):
        files[f"levels/2031-05/level_203105{day:02d}.csv"] = _levels(day)
    for hide in HIDES:
        files[f"counts/2031-05/{hide}.csv"] = _counts(hide)
    for number, day in enumerate((3, 10, 17, 24), 1):
        files[f"recordings/dawn_203105{day:02d}.wav"] = _recording(number)
    for name, tint in (("reedbed", 90), ("mere", 160)):
        files[f"maps/{name}_2031.png"] = make_picture(name, tint)
    for year in (2029, 2030):
        files[f"seasons/{year}.zip"] = _season(year)
        files[f"seasons/{year}/counts.csv"] = _season_counts(year)
    files["SHA256SUMS"] = _checksums(files)
    return files


def make_site() -> Files:
    """Return the pages of the trust's web server and the files they link to, by path."""
    files: Files = {
        "hides/2031.html": _hides_page(2031, ("05", "04", "03"), "2030.html"),
        "hides/2030.html": _hides_page(2030, ("12",), None),
        "archive/README.txt": b"Counts of old seasons, by year and season.\n",
        "robots.txt": b"User-agent: *\nDisallow: /archive/drafts/\nDisallow: /guide/private/\n",
    }
    for year, month in ((2031, "05"), (2031, "04"), (2031, "03"), (2030, "12")):
        for number, hide in enumerate(HIDES, int(month)):
            stem = f"hides/{year}-{month}/{hide}"
            files[f"{stem}_counts.csv"] = _counts(f"{hide} {year}-{month}")
            files[f"{stem}_dawn.wav"] = make_sound(number, 20_000 + 2_000 * number)
            files[f"{stem}_map.png"] = make_picture(hide, 15 * number, width=96, height=72)
    for year in (2028, 2029, 2030):
        for season in ("spring", "autumn"):
            for hide in HIDES:
                name = f"archive/{year}/{season}/{hide}_counts.csv"
                files[name] = _counts(f"{hide} {year} {season}")
            files[f"archive/{year}/{season}/notes.txt"] = f"Notes, {season} {year}\n".encode() * 9
    files["archive/drafts/2031_counts.csv"] = b"not ready\n"
    for month in ("2031-04", "2031-05"):
        for number, hide in enumerate(HIDES, int(month[-2:])):
            sound = make_sound(number, 60_000 + 8_000 * number)
            files[f"sounds/{month}/{hide}_dawn.wav"] = sound
            files[f"sounds/{month}/{hide}_dawn.au"] = _as_au(sound)
    return files


_MONTHS = {"03": "March", "04": "April", "05": "May", "12": "December"}


def _hides_page(year: int, months: tuple[str, ...], earlier: str | None) -> bytes:
    """Return the page of the bird hides: for each month a table with three links per row."""
    lines = [
        "<!doctype html>",
        f"<html lang=en><head><meta charset=utf-8><title>Bird hides {year}</title>",
        "<link rel=stylesheet href=../site/trust.css>" + f"<base href={year}.html></head><body>",
        "<p><a href=../>Harrowmere Wetland Trust</a> <a href=mailto:hides@trust.example>Ask us</a>",
        f"<h1>Bird hides {year}</h1>",
    ]
    for month in months:
        lines += [
            f"<h2>{_MONTHS[month]} {year}</h2>",
            "<table><tr><th>Hide<th>Counts<th>Recording<th>Map</tr>",
        ]
        for hide in HIDES:
            stem, name = f"{year}-{month}/{hide}", hide.replace("-", " ")
            lines.append(
                f'<tr><td>{name}<td><a href="{stem}_counts.csv" title="{name}, {month}/{year}">'
                f'count sheet</a><td><a href="{stem}_dawn.wav">dawn chorus</a>'
                f'<td><a href="{stem}_map.png"><img src="{stem}_map.png" alt="where it is"></a>'
            )
        lines.append("</table>")
    if earlier:
        lines.append(f"<p><a rel=next href={earlier}>Earlier</a>")
    return "\n".join([*lines, "</body></html>"]).encode() + b"\n"


def make_outbox() -> Files:
    """Return the files in the contractor's FTP outbox.

    It is a file a day from each logger, by path.
    """
    files: Files = {}
    for month, days in (("05", range(1, 32)), ("06", range(1, 4))):
        for day in days:
            files[f"outbox/level_2031{month}{day:02d}.csv"] = _levels(day, month)
    files["outbox/calibration/notes May.txt"] = b"Reedbed logger cleaned on 12 May.\n"
    return files


def make_bucket() -> Files:
    """Return the pictures of the camera traps by bucket and key.

    One key has two slashes by mistake.
    """
    files: Files = {}
    for month in ("2031-04", "2031-05"):
        for trap in ("otter-bridge", "reedbed-edge"):
            for number in range(1, 7):
                picture = make_picture(f"{month} {trap}", 15 * number, width=64, height=48)
                files[f"camera-traps/{month}/{trap}/img_{number:04d}.png"] = picture
    files["camera-traps/2031-05//img_0001.png"] = make_picture("stray", 99, width=64, height=48)
    files["camera-traps/2031-05/index.csv"] = b"trap,pictures\notter-bridge,6\nreedbed-edge,6\n"
    return files


def make_feed(base: str) -> bytes:
    """Return the trust's feed of recordings."""
    files = make_files()
    items = "".join(
        f"<item><title>Dawn of {day} May</title><pubDate>Sun, 01 Jun 2031 06:00:00 GMT</pubDate>"
        f'<enclosure url="{base}/recordings/dawn_203105{day}.wav" type="audio/wav"'
        f' length="{len(files[f"recordings/dawn_203105{day}.wav"])}"/></item>'
        for day in ("24", "17", "10", "03")
    )
    return (
        '<?xml version="1.0" encoding="utf-8"?>\n<rss version="2.0"><channel>'
        f"<title>Dawns at Harrowmere</title><link>{base}/</link>{items}</channel></rss>\n"
    ).encode()


def make_address_list(base: str) -> bytes:
    """Return a list of addresses with comments, ranges, extra spaces and Windows line ends."""
    lines = [
        "# For the May report, from Ida. Thank you for fetching these!",
        "",
        f"{base}/levels/2031-05/level_203105{{01..12}}.csv   # one a day",
        f"  {base}/counts/2031-05/{{{','.join(HIDES)}}}.csv",
        f"{base}/recordings/dawn_203105{{03,10,17,24}}.wav",
        f"{base}/maps/{{reedbed,mere}}_2031.png",
        "htp:/harrowmere.example/typo.csv",
        f"{base}/seasons/{{2029,2030}}.zip",
    ]
    return "\r\n".join(lines).encode() + b"\r\n"


def make_errand(base: str, contractor: str) -> bytes:
    """Return the monthly job as an errand."""
    return f"""# The month's levels and counts, for the report.
into = "report/{{month}}"
note = "for the report of {{month}}"

[values]
month = "{{last_month}}"
hide = ["{'", "'.join(HIDES)}"]

[[source]]
name = "loggers"
from = "{contractor}/outbox/"
keep = ["level_{{month:%Y%m}}??.csv"]

[[source]]
name = "hides"
from = "{base}/counts/{{month}}/{{hide}}.csv"

[haul]
lanes = 6

[filing]
file_as = "{{source}}/{{name}}"

[[step]]
combine = "report.sqlite"
table = "levels"
of = "loggers"

[[step]]
pack = "report_{{month}}.zip"
""".encode()


def make_table(base: str) -> bytes:
    """Return the archive's table: addresses with names, folders and one checksum."""
    counts = hashlib.sha256(_season_counts(2029)).hexdigest()
    rows = [
        "url;name;folder;size;checksum;remark",
        f"{base}/seasons/2029/counts.csv;counts_2029.csv;seasons;;sha256:{counts};as published",
        f"{base}/seasons/2030/counts.csv;counts_2030.csv;seasons;;;draft",
    ]
    return "\n".join(rows).encode() + b"\n"


def _levels(day: int, month: str = "05") -> bytes:
    """Return water levels in metres every ten minutes at three stations."""
    rng = random.Random(f"levels {day}" if month == "05" else f"levels {month} {day}")
    rows = ["time," + ",".join(STATIONS)]
    for minute in range(0, 1440, 10):
        tide = 0.04 * math.sin((day * 1440 + minute) / 745 * 2 * math.pi)
        figures = (1.2 + 0.3 * n + tide + rng.gauss(0, 0.004) for n in range(len(STATIONS)))
        moment = f"2031-{month}-{day:02d}T{minute // 60:02d}:{minute % 60:02d}"
        rows.append(moment + "".join(f",{figure:.3f}" for figure in figures))
    return "\n".join(rows).encode() + b"\n"


def _counts(hide: str) -> bytes:
    rng = random.Random(f"counts {hide}")
    rows = ["date,hide,species,count,remark"]
    for day in range(1, 32):
        seen = rng.sample(BIRDS, 3)
        rows += [f"2031-05-{day:02d},{hide},{bird},{rng.randrange(1, 60)}," for bird in seen]
    return "\n".join(rows).encode() + b"\n"


def _season_counts(year: int) -> bytes:
    rng = random.Random(f"season {year}")
    rows = ["month,species,mean"]
    for month in range(1, 13):
        rows += [f"{year}-{month:02d},{bird},{rng.uniform(1, 40):.1f}" for bird in BIRDS]
    return "\n".join(rows).encode() + b"\n"


def _recording(number: int) -> bytes:
    return make_sound(number, 480_000 + 60_000 * number)


def make_sound(number: int, length: int) -> bytes:
    """Return the chirps of a dawn as a WAV file: 16 bits, 8,000 samples per second."""
    rng = random.Random(f"recording {number}")
    quiet = array("h", (rng.randrange(-200, 200) for _ in range(4000)))
    chirp = array("h", (
        int(9000 * math.sin(t * t / 90_000) * math.sin(math.pi * t / 4000)) for t in range(4000)
    ))  # fmt: skip
    samples = array("h")
    while len(samples) < length:
        samples.extend(chirp if rng.random() < 0.3 else quiet)
    data = samples.tobytes()
    head = struct.pack("<4sI4s4sIHHIIHH4sI", b"RIFF", 36 + len(data), b"WAVE", b"fmt ", 16, 1, 1,
                       8000, 16000, 2, 16, b"data", len(data))  # fmt: skip
    return head + data


def _as_au(wav: bytes) -> bytes:
    """Return the same sound as an AU file with 8 bits per sample."""
    samples = array("h", wav[44:])
    data = array("b", (sample >> 8 for sample in samples)).tobytes()
    return struct.pack(">4sIIIII", b".snd", 24, len(data), 2, 8000, 1) + data


def make_picture(name: str, tint: int, width: int = 320, height: int = 240) -> bytes:
    """Return the contour lines of a mere as a PNG image in shades of one colour."""
    rows = bytearray()
    for y in range(height):
        rows.append(0)
        for x in range(width):
            depth = math.hypot((x - width / 2) / 1.4, y - height / 2) + 9 * math.sin(
                x / 23
            ) * math.sin(y / 17)
            rows += bytes((tint if int(depth) % 16 else 40, 120 + int(depth) % 80, 150))
    chunks = (
        (b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)),
        (b"tEXt", f"Title\0Harrowmere {name}".encode()),
        (b"IDAT", zlib.compress(bytes(rows), 6)),
        (b"IEND", b""),
    )
    return b"\x89PNG\r\n\x1a\n" + b"".join(_png_chunk(tag, body) for tag, body in chunks)


def _png_chunk(tag: bytes, body: bytes) -> bytes:
    return struct.pack(">I", len(body)) + tag + body + struct.pack(">I", zlib.crc32(tag + body))


def _season(year: int) -> bytes:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in _season_files(year):
            archive.writestr(zipfile.ZipInfo(name, (year, 12, 31, 12, 0, 0)), content)
    return packed.getvalue()


def _season_files(year: int) -> Iterator[tuple[str, bytes]]:
    yield "counts.csv", _season_counts(year)
    yield "readme.txt", f"Counts of the {year} season, Harrowmere Wetland Trust\n".encode()


def _checksums(files: Files) -> bytes:
    """Return the trust's checksum list, which contains one error."""
    lines = []
    for name, content in sorted(files.items()):
        digest = hashlib.sha256(content + (b"an older draft" if name == SPOILT else b""))
        lines.append(f"{digest.hexdigest()}  {name}")
    return "\n".join(lines).encode() + b"\n"


def make_members() -> Files:
    """Return the files of the portal for members by path."""
    return _monthly("members/bitterns", "bitterns", (3, 5, 4))


def make_records() -> Files:
    """Return the files of the ringing scheme, which programs read with tokens, by path."""
    return _monthly("records/ringing", "ringed", (12, 31, 18))


def make_nests() -> Files:
    """Return the files of the nest register, whose users another host vouches for, by path."""
    return _monthly("vouched/nests", "nests", (2, 4, 4))


def make_shared() -> Files:
    """Return the files of a partner's shared folder by path."""
    return _monthly("shared/2031/transects", "plants", (140, 210, 260)) | {
        "shared/methods.txt": b"Transects are walked on the 10th of each month.\n"
    }


def _monthly(stem: str, column: str, counts: tuple[int, int, int]) -> Files:
    """Return a table of counts at the hides for each month of the spring."""
    files: Files = {}
    for month, count in zip((4, 5, 6), counts, strict=True):
        rows = "".join(f"2031-{month:02}-10,{hide},{count}\n" for hide in HIDES)
        files[f"{stem}_2031-{month:02}.csv"] = f"date,hide,{column}\n{rows}".encode()
    return files


def make_catalogue(base: str) -> bytes:
    """Return a catalogue of the trust's maps, with their times and places.

    Args:
        base: the address of the trust's web server.
    """
    scenes = (("reedbed", 4.05, "2031-05"), ("mere", 4.20, "2031-05"))
    items = [
        {
            "stac_version": "1.0.0", "type": "Feature", "id": f"{name}-{month}", "geometry": None,
            "bbox": [west, 52.02, west + 0.08, 52.07],
            "properties": {"title": f"The {name}, {month}", "datetime": f"{month}-15T11:00:00Z",
                           "license": "HWT-Open-2", "sci:citation": "Harrowmere Wetland Trust"},
            "assets": {"map": {"href": f"{base}/maps/{name}_2031.png", "type": "image/png"}},
            "links": [],
        }
        for name, west, month in scenes
    ]  # fmt: skip
    return json.dumps({"type": "FeatureCollection", "features": items, "links": []}).encode()
