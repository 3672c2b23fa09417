"""Pictures, sound, films and PDF documents: their sizes, lengths and titles."""

from __future__ import annotations

import io
import logging
import struct
import warnings

from willow_cart.kinds import extension_of
from willow_cart.peeking.content import Content, Fact, Sample, Unreadable
from willow_cart.units import format_duration

_AU_HEADER = struct.Struct(">4s5I")
_AU_ENCODINGS = {
    1: ("8-bit mu-law", 1), 2: ("8-bit PCM", 1), 3: ("16-bit PCM", 2), 4: ("24-bit PCM", 3),
    5: ("32-bit PCM", 4), 6: ("32-bit float", 4), 7: ("64-bit float", 8),
}  # fmt: skip


def look_at_picture(sample: Sample, _rows: int) -> Content:
    """Tell the format and the size of a picture, from its header.

    Raises:
        Unreadable: it cannot be read.
    """
    from PIL import Image, UnidentifiedImageError

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # nothing is decoded, so that large pictures do no harm
        try:
            with Image.open(io.BytesIO(sample.beginning)) as picture:
                width, height = picture.size
                form, mode = picture.format or "", picture.mode
        except UnidentifiedImageError:
            raise Unreadable("it is not a picture that can be read") from None
        except (OSError, SyntaxError, ValueError, Image.DecompressionBombError) as error:
            raise Unreadable(str(error).lower()) from None
    facts: dict[str, Fact] = {"format": form, "width": width, "height": height, "colours": mode}
    return Content("picture", facts)


def look_at_pdf(sample: Sample, _rows: int) -> Content:
    """Tell the pages and the title of a PDF document (ISO 32000).

    Raises:
        Unreadable: it cannot be read.
    """
    from pypdf import PdfReader
    from pypdf.errors import PyPdfError

    logging.getLogger("pypdf").setLevel(logging.CRITICAL)
    try:
        reader = PdfReader(sample.file())
        if reader.is_encrypted and not reader.decrypt(""):
            return Content("PDF document", notes=["it is encrypted"])
        facts: dict[str, Fact] = {"pages": len(reader.pages)}
        if reader.metadata is not None and reader.metadata.title:
            facts["title"] = str(reader.metadata.title)
    except (PyPdfError, ValueError, KeyError, TypeError, RecursionError) as error:
        raise Unreadable(f"it is not a readable PDF document: {error}") from None
    return Content("PDF document", facts)


def look_at_sound(sample: Sample, _rows: int) -> Content:
    """Tell the format and the duration of a recording or a film, from its headers.

    Raises:
        Unreadable: it cannot be read.
    """
    if sample.beginning.startswith(b".snd"):
        return _look_at_au(sample)
    from tinytag import TinyTag, TinyTagException

    try:
        tag = TinyTag.get(sample.name, file_obj=io.BufferedReader(sample.file()))  # type: ignore[type-var]
    except (TinyTagException, struct.error, ValueError, IndexError, KeyError) as error:
        raise Unreadable(f"its headers cannot be read: {error}") from None
    facts: dict[str, Fact] = {"format": extension_of(sample.name).upper()}
    if tag.duration:
        facts |= _duration(tag.duration)
    if tag.samplerate:
        facts["samples a second"] = tag.samplerate
    if tag.channels:
        facts["channels"] = tag.channels
    if tag.title:
        facts["title"] = tag.title
    return Content("recording", facts)


def _duration(seconds: float) -> dict[str, Fact]:
    """Return a duration in seconds, and in minutes and hours where it has any."""
    facts: dict[str, Fact] = {"seconds": round(seconds, 2)}
    return facts if seconds < 60 else {"duration": format_duration(seconds), **facts}


def _look_at_au(sample: Sample) -> Content:
    """Tell the duration of an AU recording, whose header has 24 bytes."""
    if len(sample.beginning) < _AU_HEADER.size:
        raise Unreadable("its header is cut off")
    _, offset, size, encoding, rate, channels = _AU_HEADER.unpack_from(sample.beginning)
    name, width = _AU_ENCODINGS.get(encoding, (f"encoding {encoding}", 0))
    facts: dict[str, Fact] = {"format": f"AU, {name}"}
    if size == 0xFFFFFFFF and sample.length is not None:
        size = sample.length - offset
    if width and rate and channels and size != 0xFFFFFFFF:
        facts |= _duration(size / (width * rate * channels))
    return Content("recording", {**facts, "samples a second": rate, "channels": channels})
