"""File extensions and the kinds of files that they belong to."""

from __future__ import annotations

# The families are for users who sort things, so they follow use (a table is a table, whether
# text or workbook) and not the registered media types.
FAMILIES: dict[str, frozenset[str]] = {
    "table": frozenset("csv tsv tab xls xlsx ods parquet feather arrow dbf sav dta".split()),
    "data": frozenset(
        "json jsonl ndjson geojson xml yaml yml toml nc nc4 h5 hdf hdf5 grib grb grb2 sqlite db npy"
        " npz mat rds rdata".split()
    ),
    "archive": frozenset(
        "zip tar gz tgz bz2 tbz tbz2 xz txz zst 7z rar tar.gz tar.bz2 tar.xz tar.zst".split()
    ),
    "image": frozenset("png jpg jpeg gif webp svg tif tiff bmp ico avif heic psd raw dng".split()),
    "sound": frozenset("wav mp3 flac ogg oga opus m4a aac aif aiff au wma".split()),
    "video": frozenset("mp4 mkv webm mov avi mpg mpeg m4v ogv wmv ts".split()),
    "map": frozenset("shp shx prj kml kmz gpkg gpx las laz mbtiles".split()),
    "document": frozenset("pdf doc docx odt rtf ppt pptx odp epub ps tex".split()),
    "text": frozenset("txt md rst log srt vtt nfo readme".split()),
    "page": frozenset("html htm xhtml php asp aspx jsp".split()),
    "checksum": frozenset("sha256 sha512 sha1 md5 b2 asc sig".split()),
}
_FAMILY_OF = {extension: family for family, those in FAMILIES.items() for extension in those}

# Of what makes pages and files; the address does not show the type of the answer.
_SCRIPTS = frozenset({"php", "asp", "aspx", "jsp"})

# Endings that say how a file is packed; what precedes them still says what it is.
_PACKINGS = frozenset("gz bz2 xz zst".split())


def extension_of(name: str) -> str:
    """Return the extension of a name in lower case without the dot; `tar.gz` is one extension.

    A leading dot hides a file and starts no extension; an ending with a space in it, or longer than
    ten characters, is part of a sentence and none either.
    """
    stem, dot, last = name.rpartition(".")
    if not dot or not stem.strip(".") or not last or len(last) > 10 or " " in last:
        return ""
    last = last.lower()
    if last in _PACKINGS and stem.lower().endswith(".tar"):
        return f"tar.{last}"
    return last


def stem_of(name: str) -> str:
    """Return a name without its extension."""
    extension = extension_of(name)
    return name[: -len(extension) - 1] if extension else name


def better_name(own: str, given: str) -> str:
    """Return the name that a server gives a file, if the one in its address says no kind of file.

    Args:
        own: the name in the address.
        given: the server's; empty for none.

    Returns:
        The server's name; empty if the own one is to be used.
    """
    same = extension_of(own) == extension_of(given)
    return "" if tells_kind(own) or same or not extension_of(given) else given


def tells_kind(name: str) -> bool:
    """Whether a name says what kind of file it is: not if it is that of a script, or of nothing."""
    return kind_of(name) != "other" and extension_of(name) not in _SCRIPTS


def kind_of(name: str) -> str:
    """Return the kind of file for a name's extension; `other` if unknown."""
    return kind_of_extension(extension_of(name))


def kind_of_extension(extension: str) -> str:
    """Return the kind of file for an extension; `other` if unknown."""
    return _FAMILY_OF.get(extension, "other")


# How files of these extensions begin, by their formats' own specifications; more than one beginning
# where a format has several. Cheap to compare, and never so for another kind of file.
ZIP = b"PK\x03\x04"
"""What zip archives begin with, and workbooks (APPNOTE, 4.3.7)."""

_ZIP = (ZIP, b"PK\x05\x06", b"PK\x07\x08", b"PK00PK\x03\x04")
_HDF5 = (b"\x89HDF\r\n\x1a\n",)
_BEGINNINGS: dict[str, tuple[bytes, ...]] = {
    **dict.fromkeys("zip xlsx docx pptx ods odt odp epub kmz npz".split(), _ZIP),
    **dict.fromkeys("gz tgz tar.gz".split(), (b"\x1f\x8b",)),
    **dict.fromkeys("bz2 tbz tbz2 tar.bz2".split(), (b"BZh",)),
    **dict.fromkeys("xz txz tar.xz".split(), (b"\xfd7zXZ\x00",)),
    # A frame, or one that is passed over (RFC 8878, 3.1).
    **dict.fromkeys(
        "zst tar.zst".split(),
        (b"\x28\xb5\x2f\xfd", *(bytes((n,)) + b"\x2a\x4d\x18" for n in range(0x50, 0x60))),
    ),
    "7z": (b"7z\xbc\xaf\x27\x1c",),
    "png": (b"\x89PNG\r\n\x1a\n",),
    **dict.fromkeys("jpg jpeg".split(), (b"\xff\xd8\xff",)),
    "gif": (b"GIF87a", b"GIF89a"),
    "pdf": (b"%PDF-",),
    "parquet": (b"PAR1", b"PARE"),
    **dict.fromkeys("h5 hdf5 nc4".split(), _HDF5),
    "nc": (b"CDF\x01", b"CDF\x02", b"CDF\x05", *_HDF5),
    **dict.fromkeys("sqlite gpkg mbtiles".split(), (b"SQLite format 3\x00",)),
    "wav": (b"RIFF", b"RF64", b"BW64"),
    "flac": (b"fLaC",),
    **dict.fromkeys("ogg oga opus".split(), (b"OggS",)),
    "npy": (b"\x93NUMPY",),
}


def begins_like(extension: str, beginning: bytes) -> bool:
    """Whether bytes have a signature of files with an extension."""
    return beginning.startswith(_BEGINNINGS[extension])


def begins_as_named(name: str, beginning: bytes) -> bool | None:
    """Whether bytes have the signature for a name's extension; None if it has none.

    Args:
        beginning: its first bytes; 16 are enough.
    """
    expected = _BEGINNINGS.get(extension_of(name))
    return None if expected is None else beginning.startswith(expected)
