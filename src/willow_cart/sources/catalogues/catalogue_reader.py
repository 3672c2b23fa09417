"""Catalogues by open standards: documents in JSON that describe files.

Known are data packages (Frictionless Data Package), linksets (RFC 9264), items, collections and
search pages of SpatioTemporal Asset Catalogs, and what is described in JSON-LD by the words of DCAT
(W3C, version 3) or schema.org, which RO-Crate uses as well, also in pages.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterator, Mapping
from contextlib import suppress
from functools import partial

from willow_cart.checks.digests import checksums_of
from willow_cart.errors import BadAddress
from willow_cart.model import Checksum, DataExtent, Offer
from willow_cart.outside_values import quote_name, read_json, require_shallow
from willow_cart.protocols.http.http_rules import parse_links
from willow_cart.sources.catalogues.catalogue_words import (
    Graph,
    Node,
    expanded,
    extent_of_dataset,
    extent_of_item,
    list_of,
    node_of,
    text_of,
    value_of,
)
from willow_cart.sources.listing import Kind, Listing, folder_below, folder_of
from willow_cart.sources.sitemaps import read_moment
from willow_cart.sources.web_pages.markup import open_page
from willow_cart.sources.web_pages.references import Resolver
from willow_cart.units import read_count

# The beginnings of multihashes (multiformats.io), as STAC's file extension writes checksums.
_MULTIHASHES = {"1220": "sha256", "1340": "sha512", "1114": "sha1", "d50110": "md5"}

# A longer collection of items is read item by item: as a whole, it takes ten times as much memory.
_LONG_BYTES = 4 << 20

# What a catalogue says of rights is kept up to this many characters.
_MAX_TEXT = 1000

# What a collection of items says of all of them.
_OF_COLLECTIONS = ("stac_version", "license", "sci:citation")

# Below a relation of one of these kinds a catalogue goes on (STAC, "Relation types").
_PARTS = ("item", "items", "child")


def read_catalogue(content: bytes, address: str, source: str, charset: str = "") -> Listing | None:
    """Read a catalogue: an offer for each file that it describes.

    Args:
        content: the document, in JSON, or a page with JSON-LD in it.
        address: its own, after redirects.
        source: the source that the offers are of.
        charset: from the server's header.

    Returns:
        None if it describes no files in a supported standard.
    """
    found = _Catalogue(address, source)
    if len(content) > _LONG_BYTES and b'"FeatureCollection"' in content:
        found.read_long(content)
    else:
        for document in _documents(content, address, charset):
            found.read(document)
    if not found.is_known:
        return None
    return found.listing


def read_items(items: tuple[str, ...], address: str, source: str) -> Listing:
    """Read the files that a page is about, as its Link fields name them (RFC 6573, `item`).

    Args:
        items: their addresses, as written.
        address: of the page.
        source: the source that the offers are of.
    """
    found = _Catalogue(address, source)
    for item in items:
        found.offer(item)
    return found.listing


def read_linkset_text(content: bytes, address: str, source: str) -> Listing:
    """Read a linkset in text, which is a Link field in several lines (RFC 9264, 4.1)."""
    found = _Catalogue(address, source)
    contexts: defaultdict[str, defaultdict[str, list[object]]] = defaultdict(
        lambda: defaultdict(list)
    )
    for target, parameters in parse_links(content.decode("utf-8", "replace")):
        for relation in parameters.get("rel", "").lower().split():
            contexts[parameters.get("anchor", "")][relation].append({"href": target, **parameters})
    found.read({"linkset": list(contexts.values())})
    return found.listing


def _documents(content: bytes, address: str, charset: str) -> Iterator[object]:
    """Yield what is written in JSON: a document, or the JSON-LD of a page."""
    if content.lstrip()[:1] not in (b"{", b"["):
        root = open_page(content, address, charset).root
        scripts = [] if root is None else root.iter("script")
        texts = [
            script.text or ""
            for script in scripts
            if (script.get("type") or "").partition(";")[0].strip() == "application/ld+json"
        ]
    else:
        texts = [content.decode("utf-8-sig", "replace")]
    for text in texts:
        try:
            yield read_json(text)
        except ValueError:
            continue


class _Catalogue:
    """Collects what one document describes.

    Attributes:
        is_known: whether anything in it was a catalogue's.
    """

    def __init__(self, address: str, source: str) -> None:
        self.listing = Listing(address, Kind.CATALOGUE)
        self.is_known = False
        self._source = source
        self._resolver = Resolver(address)
        self._licence = self._citation = ""

    def read(self, document: object) -> None:
        """Read a document by the standard that it follows."""
        if isinstance(document, dict):
            if isinstance(document.get("resources"), list):
                self._read_package(document)
                return
            if "stac_version" in document or document.get("type") in (
                "Feature", "FeatureCollection"
            ):  # fmt: skip
                self._read_assets(document)
                return
            if isinstance(document.get("linkset"), list):
                self._read_linkset(document["linkset"])
                return
        self._read_linked_data(document)

    def read_long(self, content: bytes) -> None:
        """Read a long collection of items one by one; one that breaks off counts up to there."""
        import ijson  # few catalogues are that long

        try:
            require_shallow(content)  # the library keeps the names of all levels for each of them
        except ValueError as error:
            self.is_known = True
            self.listing.problems.append(f"it {error}")
            return
        text = partial(ijson.items, content, use_float=True)
        broken = (ijson.JSONError, UnicodeDecodeError)
        head: dict[str, object] = {"features": [], "links": []}
        for key in _OF_COLLECTIONS:
            with suppress(*broken):
                head[key] = next(text(key), None)
        with suppress(*broken):
            head["links"] = [*text("links.item")]
        self._read_assets(head)
        try:
            for item in text("features.item"):
                self._read_assets_of(item)
        except broken:
            self.listing.problems.append("it breaks off, or is not JSON")

    # Data packages

    def _read_package(self, package: Node) -> None:
        """Read a data package: `path` is one path or several, or addresses ("Data Resource")."""
        self.is_known = True
        heading = text_of(package, "title") or text_of(package, "name")
        licence, citation = _licence_in(package), text_of(package, "citation")
        for resource in list_of(package["resources"]):
            if not isinstance(resource, dict):
                continue
            paths = [each for each in list_of(resource.get("path")) if isinstance(each, str)]
            for path in paths:
                where = _file_at(path)
                if where is None:
                    self.listing.odd.append(f"{path} (a package may not refer to outside of it)")
                    continue
                self.offer(
                    where,
                    heading=heading,
                    text=text_of(resource, "title") or text_of(resource, "name"),
                    title=text_of(resource, "description"),
                    licence=_licence_in(resource) or licence,
                    citation=text_of(resource, "citation") or citation,
                    extent=DataExtent(text_of(resource, "mediatype")),
                    # Of a file in several parts, size and checksum are those of the whole.
                    size=_count(resource.get("bytes")) if len(paths) == 1 else None,
                    checksums=checksums_of(resource.get("hash"), "md5") if len(paths) == 1 else (),
                )

    # SpatioTemporal Asset Catalogs

    def _read_assets(self, document: Node) -> None:
        """Read an item, a collection, or a page of items."""
        features = list_of(document.get("features"))
        self._licence = text_of(document, "license") or _licence_link(document)
        self._citation = text_of(document, "sci:citation")
        # The last page of a search may be empty; a collection of mere geometry has no links.
        self.is_known |= isinstance(document.get("links"), list) and "features" in document
        for item in (document, *features):
            self._read_assets_of(item)
        for link in list_of(document.get("links")):
            if not isinstance(link, dict):
                continue
            relation, where = text_of(link, "rel"), text_of(link, "href")
            if relation in _PARTS and "stac_version" in document:
                self.is_known = True
                self._part(where)
            elif relation == "next":
                self.listing.following = self._resolve(where)
                if text_of(link, "method").upper() == "POST":
                    body = link.get("body")
                    self.listing.following_body = json.dumps(body if isinstance(body, dict) else {})

    def _read_assets_of(self, item: object) -> None:
        assets = item.get("assets") if isinstance(item, dict) else None
        if isinstance(item, dict) and isinstance(assets, dict):
            self.is_known = True
            for key, asset in assets.items():
                if isinstance(asset, dict):
                    self._read_asset(item, key, asset)

    def _read_asset(self, item: Node, key: str, asset: Node) -> None:
        properties = item.get("properties")
        properties = properties if isinstance(properties, dict) else {}
        when = next(
            filter(None, (
                text_of(asset, "updated"), text_of(properties, "updated"),
                text_of(properties, "datetime"), text_of(properties, "start_datetime"),
            )), "",
        )  # fmt: skip
        name = text_of(item, "id")
        self.offer(
            text_of(asset, "href"),
            heading=text_of(properties, "title") or text_of(item, "title") or name,
            text=text_of(asset, "title") or key,
            title=text_of(asset, "description"),
            size=_count(asset.get("file:size")),
            checksums=_multihash(text_of(asset, "file:checksum")),
            modified=when,
            licence=text_of(properties, "license") or text_of(item, "license") or self._licence,
            citation=text_of(properties, "sci:citation")
            or text_of(item, "sci:citation")
            or self._citation,
            extent=extent_of_item(item, properties, text_of(asset, "type")),
            # Items name their assets alike: what distinguishes them is the item.
            folder=name,
        )

    # Linksets

    def _read_linkset(self, contexts: list[object]) -> None:
        """Read the items of a linkset (RFC 9264, 4.2, and RFC 6573)."""
        self.is_known = True
        for context in contexts:
            if not isinstance(context, dict):
                continue
            for target in list_of(context.get("item")):
                if isinstance(target, dict):
                    self.offer(
                        text_of(target, "href"),
                        text=text_of(target, "title"),
                        licence=_first_link(context, "license"),
                        citation=_first_link(context, "cite-as"),
                        extent=DataExtent(text_of(target, "type")),
                    )

    # JSON-LD

    def _read_linked_data(self, document: object) -> None:
        """Read what DCAT and schema.org call distributions, and the files of a crate."""
        graph = Graph(expanded(document, self.listing.address))
        if not any(_place_of(each) for each in graph.nodes):
            graph = Graph(document)  # its words need not be those of its context
        is_crate = any("ro/crate" in value_of(each, "conformsTo") for each in graph.nodes)
        datasets = [
            graph.whole(each)
            for each in graph.nodes
            if "Dataset" in value_of(each, "@type").split()
            or "Dataset" in value_of(each, "type").split()
        ]
        dataset = datasets[0] if datasets else {}
        heading = next(filter(None, (_title_of(each) for each in datasets)), "")
        licence, citation = _rights_of(dataset)
        for each in graph.nodes:
            where = _place_of(each)
            types = value_of(each, "@type").split()
            if is_crate and not where and ("File" in types or "MediaObject" in types):
                where = value_of(each, "@id")
            if not where:
                continue
            self.is_known = True
            node = graph.whole(each)
            own_licence, own_citation = _rights_of(node)
            self.offer(
                where,
                licence=own_licence or licence,
                citation=own_citation or citation,
                extent=extent_of_dataset(dataset, node),
                heading=heading,
                text=_title_of(node),
                title=value_of(node, "description"),
                size=_count(value_of(node, "byteSize") or value_of(node, "contentSize")),
                checksums=_checksums_in(node),
                modified=value_of(node, "modified") or value_of(node, "dateModified"),
            )

    # What is found

    def offer(
        self,
        where: str,
        *,
        heading: str = "",
        text: str = "",
        title: str = "",
        size: int | None = None,
        checksums: tuple[Checksum, ...] = (),
        modified: str = "",
        folder: str | None = None,
        licence: str = "",
        citation: str = "",
        extent: DataExtent | None = None,
    ) -> None:
        """Add an offer, if an address is written there."""
        address = self._resolve(where)
        if address is None:
            return
        licence, citation = (" ".join(each.split())[:_MAX_TEXT] for each in (licence, citation))
        if folder is None:
            folder = folder_below(folder_of(self.listing.address), address)
        self.listing.offers.append(
            Offer(
                address, self._source, folder=folder, size=size, checksums=checksums,
                modified=read_moment(modified), text=text, title=title,
                headings=(heading,) if heading else (),
                licence=licence, citation=citation,
                extent=None if extent == DataExtent() else extent,
            )
        )  # fmt: skip

    def _part(self, where: str) -> None:
        if (address := self._resolve(where)) is not None:
            self.listing.parts.append(address)

    def _resolve(self, where: str) -> str | None:
        try:
            return self._resolver.resolve(where)
        except BadAddress as error:
            self.listing.odd.append(f"{error.thing} ({error.reason})")
            return None


def _file_at(path: str) -> str | None:
    """Return the reference to a file of a data package; None if its path leads outside.

    It is an address or a POSIX path ("Data Resource", `path`), in which `#` and `?` are letters.
    """
    if "://" in path:
        return path
    if path.startswith("/") or ".." in path.split("/"):
        return None
    return "/".join(map(quote_name, path.split("/")))


def _licence_in(node: Node) -> str:
    """Return the licence of a package or resource: `licenses`, or the older `license`."""
    for each in (*list_of(node.get("licenses")), *list_of(node.get("license"))):
        if isinstance(each, dict):
            told = text_of(each, "path") or text_of(each, "name") or text_of(each, "title")
        else:
            told = each if isinstance(each, str) else ""
        if told:
            return told
    return ""


def _licence_link(document: Node) -> str:
    """Return where a catalogue of assets states that its licence is."""
    for link in list_of(document.get("links")):
        if isinstance(link, dict) and text_of(link, "rel") == "license":
            return text_of(link, "href")
    return ""


def _first_link(context: Node, relation: str) -> str:
    """Return the first target of a relation in a linkset."""
    targets = list_of(context.get(relation))
    return next((text_of(each, "href") for each in targets if isinstance(each, dict)), "")


def _place_of(node: Node) -> str:
    return value_of(node, "downloadURL") or value_of(node, "contentUrl")


def _title_of(node: Node) -> str:
    return value_of(node, "title") or value_of(node, "name")


def _rights_of(node: Node) -> tuple[str, str]:
    """Return licence and citation in the words of DCAT, Dublin Core or schema.org."""
    licence = _told(node, "license") or _told(node, "rights")
    citation = _told(node, "bibliographicCitation") or _told(node, "citation")
    return licence, citation


def _told(node: Node, word: str) -> str:
    """Return the text of a word; of a node of the same document what it is called, or where."""
    there = node_of(node, word)
    if len(there) > 1 and "@value" not in there:
        name = value_of(there, "@id") or value_of(there, "id")
        is_local = not name or name.startswith("_:") or "#" in name
        told = value_of(there, "url") or _title_of(there) or value_of(there, "label")
        return told if is_local and told else name or told
    return value_of(node, word)


def _count(value: object) -> int | None:
    """Return a number of bytes; None if it is said in words."""
    return None if isinstance(value, bool) else read_count(str(value or ""))


def _multihash(value: str) -> tuple[Checksum, ...]:
    """Return the checksum in a multihash in hexadecimal digits."""
    for beginning, algorithm in _MULTIHASHES.items():
        if value.lower().startswith(beginning):
            return checksums_of(f"{algorithm}:{value[len(beginning) :]}", algorithm)
    return ()


def _checksums_in(node: Node) -> tuple[Checksum, ...]:
    """Return the checksums of a distribution: by SPDX (DCAT, 6.8.18), or as properties."""
    found: list[Checksum] = []
    for algorithm in ("sha256", "sha512", "sha1", "md5"):
        found += checksums_of(value_of(node, algorithm), algorithm)
    for key, value in node.items():
        if key.endswith("checksum"):
            for each in list_of(value):
                if isinstance(each, Mapping):
                    named = value_of(each, "algorithm").rpartition("checksumAlgorithm_")[2]
                    digest = value_of(each, "checksumValue")
                    found += checksums_of(f"{named}:{digest}", named)
    return tuple(dict.fromkeys(found))
