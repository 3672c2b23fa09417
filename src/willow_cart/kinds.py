"""Extensions and the families they belong to."""

from __future__ import annotations

# The families are for people who sort things, so they follow use (a table is a table, whether
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

# Endings that say how a file is packed; what stands before them still says what it is.
_PACKINGS = frozenset("gz bz2 xz zst".split())


def extension_of(name: str) -> str:
    """The extension of a name, in lower case and without its dot; `tar.gz` counts as one.

    A leading dot hides a file and is no extension; an ending with a space in it, or longer than
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
    """A name without its extension and the dot before that."""
    extension = extension_of(name)
    return name[: -len(extension) - 1] if extension else name


def kind_of(name: str) -> str:
    """The family that a name's extension belongs to; `other` where none is known."""
    return _FAMILY_OF.get(extension_of(name), "other")
