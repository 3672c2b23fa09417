"""Templates for paths: Python format strings with the facts of an offer as fields.

`{kind}/{modified:%Y-%m}/{name}` names a field in each pair of braces, and after a colon how it is
written (Python's "Format Specification Mini-Language"). A bar hands what a field says to a filter.
Nothing of Python can be reached besides: no attribute, no call.
"""

from __future__ import annotations

import re
import string
import unicodedata
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from enum import StrEnum
from urllib.parse import parse_qsl, urlsplit

from willow_cart.addresses import host_of, looks_like_address, name_of
from willow_cart.errors import BadOption
from willow_cart.expressions import Expression
from willow_cart.kinds import extension_of, stem_of
from willow_cart.model import Offer
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value

FieldValue = str | int | datetime | None
"""What a field says of an offer; None for nothing, and as above for an empty text."""

_FIELD = re.compile(r"(\w+)(?:\[([^][]+)\])?((?:\|[^|]+)*)")


_SLICE = re.compile(r"(-?\d{1,6})?:(-?\d{1,6})?")

# Digits of a width in a field; names have at most 255 bytes.
_MAX_WIDTH_DIGITS = 3


class FieldMissing(Exception):  # it is caught where offers are counted
    """An offer without a value for a field; `args[0]` is its name."""


def _source(offer: Offer) -> str:
    """Return the name of a source: the last part of its path, or its host."""
    bare = offer.source.partition("?")[0].rstrip("/")
    if looks_like_address(bare) and not urlsplit(bare).path.strip("/"):
        return host_of(bare)
    return name_of(bare)


_FIELDS: Mapping[str, Callable[[Offer], FieldValue]] = {
    "name": lambda offer: offer.path_name,
    "stem": lambda offer: stem_of(offer.path_name),
    "ext": lambda offer: extension_of(offer.file_name),
    "kind": lambda offer: offer.kind,
    "folder": lambda offer: offer.folders,
    "host": lambda offer: host_of(offer.address),
    "source": _source,
    "heading": lambda offer: offer.heading,
    "text": lambda offer: offer.text,
    "title": lambda offer: offer.title,
    "number": lambda offer: offer.number or None,
    "modified": lambda offer: offer.modified and offer.modified.astimezone(UTC),
}
"""The fields that every template knows; dates are in UTC."""

_LISTS: Mapping[str, Callable[[Offer], list[str]]] = {
    "folders": lambda offer: offer.path.split("/")[:-1],
    "path": lambda offer: offer.path.split("/"),
    "headings": lambda offer: list(offer.headings),
}
"""The fields that have parts, by position: `{folders[0]}`, `{path[-2]}`, `{folders[1:]}`."""


def _plain(text: str) -> str:
    """Keep Latin letters without accents, digits, `.`, `_` and `-`; replace the rest by `-`."""
    bare = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode()
    return re.sub(r"[^A-Za-z0-9._-]+", "-", bare).strip("-")


_FILTERS: Mapping[str, Callable[[str], str]] = {
    "lower": str.lower,
    "plain": _plain,
    "dashed": lambda text: "-".join(text.split()),
}


class _Slot(Value):
    """A field in a template.

    Attributes:
        name: as it is written there, for messages, without filters and spec.
        read: returns the field's value for an offer.
        filters: applied to its text, in order.
        otherwise: the word that stands for nothing; None if nothing may not be.
        spec: how it is written.
        keeps_slashes: whether what it says may be several folders.
    """

    name: str
    read: Callable[[Offer], FieldValue]
    filters: tuple[Callable[[str], str], ...]
    otherwise: str | None
    spec: str
    keeps_slashes: bool

    def write(self, value: FieldValue) -> str:
        """Return the text that replaces the field.

        Raises:
            FieldMissing: a field has no value.
            ValueError: the value cannot be written so.
        """
        text = self._in_words(value)
        if self.keeps_slashes:
            return text
        if not text:
            if self.otherwise is None:
                raise FieldMissing(self.name)
            return self.otherwise
        return text.replace("/", "_")

    def _in_words(self, value: FieldValue) -> str:
        """Format a value as text.

        Words go through the filters before they are cut, all else after.
        """
        if value in (None, ""):
            return ""
        if isinstance(value, str) and self.spec.endswith("d"):
            value = int(value)  # digits that were cut out of a name
        if isinstance(value, str):
            return format(self._filtered(value), self.spec)
        spec = self.spec or ("%Y-%m-%d" if isinstance(value, datetime) else "")
        return self._filtered(format(value, spec))

    def _filtered(self, text: str) -> str:
        for each in self.filters:
            text = each(text)
        return text


@dataclass(frozen=True, slots=True)
class Template:
    """A rule that gives each offer its path.

    Attributes:
        text: as a user wrote it.
        name_parts: a regular expression that is searched in names; its named groups are fields.
        fetched: what `{fetched}` says: when the haul is.

    Raises:
        BadOption: it cannot be understood.
    """

    text: str
    name_parts: str = ""
    fetched: datetime = field(default_factory=lambda: datetime.now(UTC), compare=False)
    _pieces: tuple[str | _Slot, ...] = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "_pieces", tuple(_read(self)))
        if not self.text.strip("/ "):
            raise BadOption(repr(self.text), "gives no name", "write {name}")

    def require_apart(self, files: int) -> None:
        """Refuse a text without a field for several files.

        Raises:
            BadOption: all of them would have the same name.
        """
        if files > 1 and not any(isinstance(piece, _Slot) for piece in self._pieces):
            raise BadOption(
                self.text,
                f"has no field, so all {files:,} files would have the same name",
                "add {name}, or choose one file",
            )

    def wish_for(self, offer: Offer) -> str:
        """Return the desired path of an offer below the destination, safe or not.

        Raises:
            FieldMissing: the offer has no value for one of the fields.
        """
        path = ""
        for piece in self._pieces:
            if isinstance(piece, str):
                path += piece
                continue
            try:
                path += piece.write(piece.read(offer))
            except ValueError:
                raise FieldMissing(piece.name) from None
        return path


def _read(template: Template) -> Iterator[str | _Slot]:
    """Parse a template.

    Raises:
        BadOption: it cannot be.
    """
    groups = _groups(template.name_parts)
    try:
        parts = list(string.Formatter().parse(template.text))
    except ValueError as error:
        raise BadOption(
            template.text, f"cannot be read: {error}", "write {{ and }} for braces themselves"
        ) from None
    for literal, name, spec, conversion in parts:
        if literal:
            yield literal
        if name is None:
            continue
        if conversion or "{" in (spec or ""):
            written = f"{{{name}!{conversion}}}" if conversion else f"{{{name}:{spec}}}"
            raise BadOption(written, "has a conversion or braces in it", "leave them out")
        yield _slot(template, groups, name, spec or "")


def _slot(
    template: Template, groups: Mapping[str, Callable[[Offer], FieldValue]], written: str, spec: str
) -> _Slot:
    found = _FIELD.fullmatch(written)
    text = f"{{{written}{':' if spec else ''}{spec}}}"
    if found is None:
        raise BadOption(text, "not a field", f"fields are {_names(groups)}")
    name, part, filters = found.groups()
    read = _reader(template, groups, name, part)
    if read is None:
        raise BadOption(text, "not a field", f"fields are {_names(groups)}")
    words = [word.strip() for word in filters.split("|")[1:]]
    otherwise = [word[3:].strip() for word in words if word.startswith("or ")]
    wanted = [word for word in words if not word.startswith("or ")]
    if unknown := [word for word in wanted if word not in _FILTERS]:
        known = ", ".join([*_FILTERS, "or WORD"])
        raise BadOption(text, f"has no filter {unknown[0]}", f"filters are {known}")
    # A width of a thousand million would take as many bytes.
    if any(len(digits) > _MAX_WIDTH_DIGITS for digits in re.findall(r"\d+", spec)):
        raise BadOption(text, "is too wide", "write a smaller number")
    slot = _Slot(
        f"{name}[{part}]" if part else name,
        read,
        tuple(_FILTERS[word] for word in wanted),
        otherwise[0] if otherwise else None,
        spec,
        keeps_slashes=name == "folder" or (name in _LISTS and ":" in (part or "")),
    )
    try:
        slot.write(_sample(name))
    except ValueError:
        raise BadOption(
            text, f"cannot be written as {spec}", "see the guide on templates"
        ) from None
    return slot


def _reader(
    template: Template,
    groups: Mapping[str, Callable[[Offer], FieldValue]],
    name: str,
    part: str | None,
) -> Callable[[Offer], FieldValue] | None:
    """Return the function that reads a field; None for an unknown field."""
    if name == "query" and part:
        return lambda offer: _of_query(offer, part)
    if name == "row" and part:
        return lambda offer: _of_row(offer, part)
    if name in _LISTS and part and re.fullmatch(r"-?\d{1,6}", part):
        return lambda offer: _at(_LISTS[name](offer), int(part))
    if name in _LISTS and part and (ends := _SLICE.fullmatch(part)):
        some = slice(*(int(end) if end else None for end in ends.groups()))
        return lambda offer: "/".join(_without_slashes(each) for each in _LISTS[name](offer)[some])
    if part:
        return None
    if name == "fetched":
        return lambda _: template.fetched
    return groups.get(name) or _FIELDS.get(name)


def _groups(name_parts: str) -> dict[str, Callable[[Offer], FieldValue]]:
    """Return the fields that named groups of a regular expression define.

    Raises:
        BadOption: the expression cannot be read, or has no group with a name of its own.
    """
    if not name_parts:
        return {}
    expression = Expression("", name_parts, "see the guide on templates")
    names = list(expression.groups)
    known = [name for name in names if name in {*_FIELDS, *_LISTS, "fetched", "query", "row"}]
    if not names or known:
        problem = (
            f"defines a field that already exists: {known[0]}" if known else "defines no field"
        )
        raise BadOption(name_parts, problem, "write parts as (?P<year>\\d{4})")

    def reader(name: str) -> Callable[[Offer], FieldValue]:
        def read(offer: Offer) -> FieldValue:
            found = expression.search(offer.file_name)
            return found[name] if found else None

        return read

    return {name: reader(name) for name in names}


def parts_of_names(name_parts: str, offer: Offer) -> dict[str, str]:
    """Return the parts of an offer's name that the named groups of a regular expression match.

    Raises:
        BadOption: the expression cannot be read, or has no group with a name of its own.
    """
    said = {name: read(offer) for name, read in _groups(name_parts).items()}
    return {name: "" if value is None else str(value) for name, value in said.items()}


def _names(groups: Mapping[str, object]) -> str:
    return ", ".join(
        [
            *_FIELDS,
            "fetched",
            *(f"{name}[N]" for name in _LISTS),
            "row[TITLE]",
            "query[KEY]",
            *groups,
        ]
    )


def _sample(name: str) -> FieldValue:
    """Return a sample value of a field, to test whether a format suits it."""
    if name in ("modified", "fetched"):
        return datetime.fromtimestamp(0, UTC)
    return 1 if name == "number" else "1"


def _of_query(offer: Offer, key: str) -> str | None:
    pairs = parse_qsl(urlsplit(without_secrets(offer.address)).query)
    return next((value for name, value in pairs if name == key), None)


def _of_row(offer: Offer, title: str) -> str | None:
    """Return the cell in the row of a link, in the column with a heading."""
    cells = offer.cell.row_cells if offer.cell else ()
    return next((text for head, text in cells if head.casefold() == title.casefold()), None)


def _without_slashes(text: str) -> str:
    return text.replace("/", "_")


def _at(parts: list[str], place: int) -> str | None:
    return parts[place] if -len(parts) <= place < len(parts) else None


class Layout(StrEnum):
    """A rule that gives each offer its folder."""

    TREE = "tree"
    """The folders below the source, as they are there."""
    FLAT = "flat"
    """All in one folder."""
    HOST = "host"
    """A folder for each host, and in it the folders as they are there."""
    KIND = "kind"
    """A folder for each family of files: table, archive, image, ..."""
    MONTH = "month"
    """A folder for each month in which files were changed last."""
    HEADING = "heading"
    """A folder for each heading of the page."""

    @property
    def template(self) -> Template:
        """The equivalent template."""
        return _TEMPLATES[self]

    def wish_for(self, offer: Offer) -> str:
        """Return the desired path of an offer below the destination.

        It may be unsafe.
        """
        # By far the commonest layout; fast, because millions of offers are processed.
        return offer.path if self is Layout.TREE else _TEMPLATES[self].wish_for(offer)


_TEMPLATES = {
    Layout.TREE: Template("{folder}/{name}"),
    Layout.FLAT: Template("{name}"),
    Layout.HOST: Template("{host|or this machine}/{folder}/{name}"),
    Layout.KIND: Template("{kind}/{name}"),
    Layout.MONTH: Template("{modified|or undated:%Y-%m}/{name}"),
    Layout.HEADING: Template("{heading|or no heading}/{name}"),
}
