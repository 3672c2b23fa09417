"""The columns of a cart, defined once for tables, JSON Lines, data frames and documents."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from willow_cart.cart.sheet import cover
from willow_cart.checks.digests import read_checksum
from willow_cart.errors import BadOption
from willow_cart.identity import digest_of_address, read_digest
from willow_cart.model import BETWEEN_HEADINGS, Checksum, Offer
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value, field, replace

GONE = "gone"
"""The column that says since when a row's source does not offer it; there if one ever did not."""


class Column(Value):
    """A column of a cart.

    Attributes:
        name: at its head; also the key in JSON Lines, and the name in a frame.
        about: what it holds, in a few words.
        write: makes the cell of an offer: covered, and without secrets.
        read: makes the value of an offer's field from a cell; None where a cell of another column
            or row decides with it, as `RowReader` knows. Raises BadOption.
        offer_field: the offer's field that is read.
        value: makes the value in a frame and in JSON Lines; None for the cell.
        read_value: makes the value of the field from that in JSON Lines.
        besides: further keys in JSON Lines, with what makes their values.
        kind: what holds it in a frame, as pandas calls it; empty for text.
        is_renewed: whether it is written again when its source says something else now.
        is_optional: whether a new table has it only if there is something to write.
    """

    name: str
    about: str
    write: Callable[[Offer], str]
    read: Callable[[str], object] | None = None
    offer_field: str = ""
    value: Callable[[Offer], object] | None = None
    read_value: Callable[[object], object] | None = None
    besides: Mapping[str, Callable[[Offer], object]] = field(default_factory=dict)
    kind: str = ""
    is_renewed: bool = False
    is_optional: bool = False

    def as_value(self, offer: Offer) -> object:
        """Return the value for data frames and JSON Lines."""
        return self.write(offer) if self.value is None else self.value(offer)


def size_cell(offer: Offer) -> str:
    """Format the size of an offer: `~` marks a rounded size, and `+-` how far it may be off."""
    if offer.size is None:
        within = "" if offer.about_within is None else f" +-{offer.about_within}"
        return "" if offer.about is None else f"~{offer.about}{within}"
    return str(offer.size)


def date_cell(offer: Offer) -> str:
    """Format the date of an offer: ISO 8601 with its zone."""
    return offer.modified.isoformat() if offer.modified else ""


def _checksum_cell(offer: Offer) -> str:
    return " ".join(map(str, offer.checksums))


def _read_checksums(cell: str) -> tuple[Checksum, ...]:
    return tuple(read_checksum(each) for each in cell.split())


def _read_checksum_list(value: object) -> tuple[Checksum, ...]:
    if not isinstance(value, list) or not all(isinstance(each, str) for each in value):
        raise BadOption(f"checksum {value!r}", "not a list of strings", 'write ["..."]')
    return tuple(map(read_checksum, value))


def _read_headings(cell: str) -> tuple[str, ...]:
    return tuple(each for each in cell.split(BETWEEN_HEADINGS) if each)


def _mirrors(offer: Offer) -> list[str]:
    return [without_secrets(mirror) for mirror in offer.mirrors]


def without_secrets_in(offer: Offer) -> Offer:
    """Return an offer without secrets in its addresses; what they were still identifies it."""
    shown = without_secrets(offer.address)
    mirrors = tuple(map(without_secrets, offer.mirrors))
    if (shown, mirrors) == (offer.address, offer.mirrors):
        return offer
    digest = offer.digest or (digest_of_address(offer.address) if shown != offer.address else "")
    return replace(offer, address=shown, mirrors=mirrors, digest=digest)


def _digest(offer: Offer) -> str:
    return without_secrets_in(offer).digest


CART_COLUMNS = (
    # Whether a row is taken is not of the offer; the caller knows it.
    Column(
        "take",
        "`yes`, or empty for a row that is not taken; without this column all rows are taken",
        lambda _: "",
        kind="bool",
    ),
    Column(
        "number",
        "the number of the row, for `--numbers`; it never changes",
        lambda offer: str(offer.number),
        value=lambda offer: offer.number,
        kind="int64",
    ),
    Column(
        "name",
        "the file name; takes precedence over the name in the address",
        lambda offer: cover(offer.path_name),
        value=lambda offer: offer.path_name,
    ),
    Column(
        "folder",
        "the folder, with `/` as separator; empty with a name for no folder",
        lambda offer: cover(offer.folders),
        value=lambda offer: offer.folders,
    ),
    Column(
        "size",
        "bytes, or a number with a unit: `1.5 MB`; a leading `~` marks a rounded size, and `+-` "
        "gives how far it may be off: `~232038 +-103`",
        size_cell,
        value=lambda offer: offer.size,
        besides={
            "about": lambda offer: offer.about,
            "about_within": lambda offer: offer.about_within,
        },
        kind="Int64",
        is_renewed=True,
    ),
    Column(
        "modified",
        "the modification time, ISO 8601; UTC if it has no zone",
        date_cell,
        value=lambda offer: offer.modified,
        kind="datetime",
        is_renewed=True,
    ),
    Column("kind", "the kind of file; written, not read", lambda offer: offer.kind),
    Column(
        "source",
        "the source that offered it",
        lambda offer: cover(offer.source),
        value=lambda offer: offer.source,
    ),
    Column(
        "text",
        "the text of the link",
        lambda offer: cover(offer.text),
        str,
        "text",
        value=lambda offer: offer.text,
    ),
    Column(
        "heading",
        "the headings above it, the outermost first, separated by ` > `",
        lambda offer: cover(offer.section),
        _read_headings,
        "headings",
        value=lambda offer: offer.section,
        read_value=lambda value: _read_headings(str(value)) if value else (),
    ),
    Column(
        "checksum",
        "`sha256:HEX`, or hexadecimal alone; several are separated by spaces",
        _checksum_cell,
        _read_checksums,
        "checksums",
        value=lambda offer: [*map(str, offer.checksums)],
        read_value=_read_checksum_list,
        is_renewed=True,
    ),
    Column(
        "url",
        "the address, followed by its mirrors, separated by spaces",
        lambda offer: " ".join([without_secrets(offer.address), *_mirrors(offer)]),
        value=lambda offer: without_secrets(offer.address),
        besides={"mirrors": _mirrors},
    ),
    Column(
        "licence",
        "the licence that a catalogue names; written if there is one",
        lambda offer: cover(offer.licence),
        str,
        "licence",
        value=lambda offer: offer.licence,
        is_optional=True,
    ),
    Column(
        "citation",
        "how a catalogue wants the file to be cited; written if there is one",
        lambda offer: cover(offer.citation),
        str,
        "citation",
        value=lambda offer: offer.citation,
        is_optional=True,
    ),
    Column(
        "key",
        "identifies an address whose secrets were removed; written if there is one",
        _digest,
        read_digest,
        "digest",
        value=_digest,
        read_value=lambda value: read_digest(str(value)) if value else "",
        is_optional=True,
    ),
)
"""The columns in order. A further one that is of an offer's field alone is a definition here."""

COLUMNS = tuple(column.name for column in CART_COLUMNS)
"""Their names, in order. Only `url` must be there when a cart is read."""


PLAIN_COLUMNS = tuple(column.name for column in CART_COLUMNS if not column.is_optional)
"""The names of those that every new table has."""


class NeededColumns:
    """The columns of a new table: an optional one only if there is something to write into it."""

    def __init__(self) -> None:
        self._lacking = [column for column in CART_COLUMNS if column.is_optional]

    def see(self, offer: Offer) -> None:
        """Add the columns that an offer needs."""
        for column in [each for each in self._lacking if each.write(offer)]:
            self._lacking.remove(column)

    @property
    def names(self) -> tuple[str, ...]:
        """Their names, in order."""
        return tuple(column.name for column in CART_COLUMNS if column not in self._lacking)
