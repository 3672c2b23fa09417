"""The values that all packages share; they have no behaviour."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from enum import StrEnum

from willow_cart.addresses import file_name_in, segments_of
from willow_cart.errors import shortened
from willow_cart.identity import AddressId, address_id
from willow_cart.kinds import kind_of
from willow_cart.structs import Record, Value, force_setattr
from willow_cart.units import MAX_SIZE_BYTES, count_of, format_size

OWN_FOLDER = ".willow"
"""The product's own folder in a destination: ledger, partial files, lock. No offer goes there."""


class Origin(StrEnum):
    """The source of an expected checksum."""

    CART = "the cart"
    LIST = "a checksum list"
    SERVER = "the server"
    STORE = "the store"
    ARCHIVE = "its archive"
    CATALOGUE = "the catalogue"


class Checksum(Value):
    """An expected or computed checksum.

    Attributes:
        algorithm: `md5`, `sha1`, `sha256`, `sha512`, `blake2b`, `crc32c`, ...
        digest: hexadecimal, in lower case.
        origin: who promises it; says nothing where it was measured, and makes no difference to
            whether two are the same.
        is_hint: whether it only looks like one, such as an entity tag of 32 digits: a match proves
            the bytes, and a mismatch of two equal downloads disproves the hint.
    """

    algorithm: str
    digest: str
    origin: Origin = Origin.CART
    is_hint: bool = False

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Checksum) and str(self) == str(other)

    def __hash__(self) -> int:
        return hash(str(self))

    def __str__(self) -> str:
        return f"{self.algorithm}:{self.digest}"


class Validators(Value):
    """The version of a representation as the server states it (RFC 9110, 8.8).

    Attributes:
        entity_tag: the ETag field as it came, quotes and `W/` included.
        last_modified: the Last-Modified field as it came.
        date: the Date field of the same answer, by which a Last-Modified is judged strong or weak.
    """

    entity_tag: str | None = None
    last_modified: str | None = None
    date: str | None = None

    def __bool__(self) -> bool:
        return self.entity_tag is not None or self.last_modified is not None


class Metadata(Value):
    """The metadata of a representation.

    Attributes:
        address: where it was found after redirects.
        length: its length in bytes; None if the server does not state it.
        validators: identifiers of its version.
        modified: when it was changed last, with time zone; None if the server does not state it.
            Only `Access.ask` reads it; a delivery leaves it None.
        media_type: of the representation (RFC 9110, 8.3), in lower case and without parameters;
            empty if the server does not state it.
        charset: the character set that the server names for it, in lower case; empty for none.
        attachment: whether the server means it to be stored rather than shown (RFC 6266).
        file_name: the name that the server gives it for that, as it came; empty for none.
        following: the address of the next of a series, where the server names one (RFC 8288).
        items: the addresses of the files that a page is about, as above (RFC 6573).
        linkset: the address of a list of links with those files among them (RFC 9264); empty for
            none.
        coding: the content coding (RFC 9110, 8.4) that is undone while it comes; empty for none.
        checksums: what the server itself promises that the bytes hash to.
        composite: the MD5 of the MD5s of its parts, and how many they are, where a store keeps only
            that; None elsewhere.
        proofs: names of the fields in which the server promises checksums. Only `Access.ask` reads
            them.
        proves_end: whether the answer shows where it ends; one that ends with its connection may
            have been cut off.
    """

    address: str
    length: int | None = None
    validators: Validators = Validators()
    modified: datetime | None = None
    media_type: str = ""
    charset: str = ""
    attachment: bool = False
    file_name: str = ""
    following: str | None = None
    items: tuple[str, ...] = ()
    linkset: str = ""
    coding: str = ""
    checksums: tuple[Checksum, ...] = ()
    composite: tuple[str, int] | None = None
    proofs: tuple[str, ...] = ()
    proves_end: bool = True

    @property
    def content_type(self) -> str:
        """The media type with its character set, as the server sent them; empty if neither."""
        return f"{self.media_type}; charset={self.charset}" if self.charset else self.media_type


class Cell(Value):
    """The position of a link in a table.

    Attributes:
        row: counted from 1, rows of headings left out.
        place: of the link among the links in its row, counted from 1.
        column: of the table, counted from 1.
        title: the column's heading; empty if missing.
        row_cells: the texts of the row's cells, with the headings of their columns.
    """

    row: int
    place: int
    column: int
    title: str = ""
    row_cells: tuple[tuple[str, str], ...] = ()

    def __repr__(self) -> str:
        where = f"row={self.row}, place={self.place}, column={self.column}"
        return f"Cell({where}, title={self.title!r})"


Box = tuple[float, float, float, float]
"""An area: west, south, east and north in degrees (RFC 7946, 5); west is more than east across the
180th meridian."""


def is_box(west: float, south: float, east: float, north: float) -> bool:
    """Whether numbers are the sides of an area on the earth."""
    return abs(west) <= 180 and abs(east) <= 180 and -90 <= south <= north <= 90


class DataExtent(Value):
    """The time, area and media type of the data in a file, from its catalogue.

    Attributes:
        media_type: of the file.
        begins, ends: the time that they are of; None if unknown or open.
        box: the area; None if unknown.
    """

    media_type: str = ""
    begins: datetime | None = None
    ends: datetime | None = None
    box: Box | None = None


BETWEEN_HEADINGS = " > "
"""Separates the headings of nested sections in one text."""


class Offer(Value):
    """One file that a source offers, with the facts known before it is fetched.

    Attributes:
        address: where it is, in normal form.
        source: the source that offered it, as typed by the user.
        number: its position in that source, counted from 1.
        name: the name to file it under where someone chose one; None leaves it to the address.
        folder: as above the folder, with `/` between the parts.
        size: bytes, from the source; None where it does not, or only says about how many.
        about: the rounded number of bytes that the source gives; never used as a size.
        about_within: how far the size can be from `about` in bytes; None if unknown.
        modified: when it was changed last, from the source.
        checksums: what its bytes must hash to; all of them.
        text: the words of the link to it.
        title: its title on the page.
        headings: the headings of the sections that contain the link, the outermost first.
        cell: where in a table the link is.
        mirrors: further addresses of the same bytes, the most preferred first.
        licence: the licence in the catalogue: its name or address.
        citation: how a catalogue wants it to be cited.
        extent: what a catalogue states that its data are of; None if it says nothing.
        digest: that in the identifier of the address as it was before its secrets were removed; see
            `identity.address_id`. Empty for an address that is whole.
        entity_tag: of the listed version; empty if missing.
        size_is_hint: whether sources of its kind are often wrong about sizes.
    """

    address: str
    source: str = ""
    number: int = 0
    name: str | None = None
    folder: str | None = None
    size: int | None = None
    about: int | None = None
    about_within: int | None = None
    modified: datetime | None = None
    checksums: tuple[Checksum, ...] = ()
    text: str = ""
    title: str = ""
    headings: tuple[str, ...] = ()
    cell: Cell | None = None
    mirrors: tuple[str, ...] = ()
    licence: str = ""
    citation: str = ""
    extent: DataExtent | None = None
    digest: str = ""
    entity_tag: str = ""
    size_is_hint: bool = False

    def __post_init__(self) -> None:
        # What a server or a list makes up would otherwise fill every disk before it comes.
        if self.size is not None and not 0 <= self.size <= MAX_SIZE_BYTES:
            force_setattr(self, "size", None)
        if self.about is not None and not 0 <= self.about <= MAX_SIZE_BYTES:
            force_setattr(self, "about", None)

    @property
    def id(self) -> AddressId:
        """Return the identifier of its address."""
        return address_id(self.address, self.digest)

    @property
    def unique(self) -> str:
        """Return a text that only this file's offer has."""
        return f"{self.digest}{self.address}"

    @property
    def heading(self) -> str:
        """Return the nearest heading above the link; empty if missing."""
        return self.headings[-1] if self.headings else ""

    @property
    def section(self) -> str:
        """Return all headings in one text, the outermost first."""
        return BETWEEN_HEADINGS.join(self.headings)

    @property
    def file_name(self) -> str:
        """Return the name before it is made safe: the chosen one, or that in the address."""
        return self.name or file_name_in(self.address) or "index.html"

    @property
    def path(self) -> str:
        """Return the path below the source, with `/` as separator; used by rules and layouts."""
        folders = self.folders
        return f"{folders}/{self.path_name}" if folders else self.path_name

    @property
    def folders(self) -> str:
        """Return the path without the name."""
        if self.folder is not None:
            return "/".join([part for part in self.folder.split("/") if part])
        return "/".join([_without_slashes(part) for part in segments_of(self.address)[:-1]])

    @property
    def path_name(self) -> str:
        """Return the name in the path."""
        return _without_slashes(self.file_name)

    @property
    def kind(self) -> str:
        """Return the kind of file for its extension."""
        return kind_of(self.file_name)


def _without_slashes(part: str) -> str:
    """Return a part of a path; an encoded slash is part of a name, and no separator."""
    return part.replace("/", "_")


class Issue(Value):
    """A part of a source that was skipped while the rest continued.

    Attributes:
        place: the source and where in it: `addresses.txt, line 7`.
        why: the problem, and what to do.
    """

    place: str
    why: str

    def __str__(self) -> str:
        return f"{shortened(self.place)}: {self.why}"


class State(StrEnum):
    """The state of a file after a haul: a code, which is recorded, and a label."""

    ARRIVED = "arrived"
    """Its bytes came, were checked, and are under its name; whether new or renewed."""
    UNCHANGED = "unchanged"
    """The server was asked, and states that the existing file is still what it has."""
    HERE = "here"
    """What is here is proved to be right without, or in spite of, the server's word."""
    FAILED = "failed"
    """It could not be fetched."""
    REFUSED = "refused"
    """It came, and failed its check; it is not under its name."""

    @property
    def label(self) -> str:
        """The text for users."""
        return label_of(self)


_LABELS = {State.HERE: "already here"}


def label_of(code: str) -> str:
    """Return the label for the code of a state; other codes are returned unchanged."""
    return _LABELS.get(code, code)  # type: ignore[call-overload, no-any-return]  # codes are texts


class Sizes(Record):
    """Total sizes of a number of files.

    Attributes:
        files: how many there are.
        exact: bytes in those whose size is known.
        about: bytes in those whose size is known only roughly.
        rough: how many these are.
        unknown: how many have no known size at all.
    """

    files: int = 0
    exact: int = 0
    about: int = 0
    rough: int = 0
    unknown: int = 0

    def __str__(self) -> str:
        """Format files and sizes; unknown sizes are counted, never taken as zero."""
        words = count_of(self.files, "file")
        if self.files > self.unknown:
            words += f", {'about ' if self.rough else ''}{format_size(self.bytes)}"
        if self.unknown:
            words += f", {count_of(self.unknown, 'size')} unknown"
        return words

    def add(self, offer: Offer) -> None:
        """Add an offer."""
        self.files += 1
        if offer.size is not None:
            self.exact += offer.size
        elif offer.about is not None:
            self.about += offer.about
            self.rough += 1
        else:
            self.unknown += 1

    def add_all(self, others: Sizes) -> None:
        """Add other totals."""
        self.files += others.files
        self.exact += others.exact
        self.about += others.about
        self.rough += others.rough
        self.unknown += others.unknown

    def take_off(self, others: Sizes) -> None:
        """Subtract other totals."""
        self.files -= others.files
        self.exact -= others.exact
        self.about -= others.about
        self.rough -= others.rough
        self.unknown -= others.unknown

    @property
    def bytes(self) -> int:
        """Return the bytes as far as known; exact only if no size is rounded or unknown."""
        return self.exact + self.about


def sum_of(parts: Iterable[Sizes]) -> Sizes:
    """Return the sum of several totals."""
    total = Sizes()
    for part in parts:
        total.add_all(part)
    return total
