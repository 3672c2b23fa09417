"""Catalogues by open standards as sources: what they describe, where it goes, and odd ones."""

from __future__ import annotations

import hashlib
import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest

from tests.support.program import files_in, run
from willow_cart.choosing.choosing import is_within_box
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.model import DataExtent, Offer
from willow_cart.offer_store import OfferStore
from willow_cart.sources.catalogues import catalogue_reader
from willow_cart.sources.catalogues.catalogue_reader import read_catalogue, read_linkset_text
from willow_cart.sources.catalogues.catalogue_words import nodes_in, value_of

MAY, JUNE = b"station,level\nalder,1.2\n", b"station,level\nalder,1.4\n"


def sha(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


PACKAGE = {
    "name": "harrowmere-levels",
    "title": "Levels of the mere",
    "resources": [
        {"name": "may", "title": "Levels in May", "path": "data/may.csv", "bytes": len(MAY),
         "hash": f"sha256:{sha(MAY)}", "description": "Every ten minutes"},
        {"name": "june", "path": ["data/june.csv"], "bytes": len(JUNE),
         "hash": hashlib.md5(JUNE).hexdigest()},
    ],
}  # fmt: skip
CRATE = {
    "@context": "https://w3id.org/ro/crate/1.1/context",
    "@graph": [
        {"@id": "ro-crate-metadata.json", "@type": "CreativeWork",
         "conformsTo": {"@id": "https://w3id.org/ro/crate/1.1"}, "about": {"@id": "./"}},
        {"@id": "./", "@type": "Dataset", "name": "Levels of the mere",
         "hasPart": [{"@id": "data/may.csv"}, {"@id": "data/june.csv"}]},
        {"@id": "data/may.csv", "@type": ["File", "Dataset"], "name": "Levels in May",
         "contentSize": str(len(MAY)), "sha256": sha(MAY)},
        {"@id": "data/june.csv", "@type": "File", "contentSize": len(JUNE)},
        {"@id": "#ida", "@type": "Person", "name": "Ida Sedge"},
    ],
}  # fmt: skip
DCAT = {
    "@context": {"dcat": "http://www.w3.org/ns/dcat#", "dct": "http://purl.org/dc/terms/"},
    "@type": "dcat:Dataset",
    "dct:title": "Levels of the mere",
    "dcat:distribution": [
        {"@type": "dcat:Distribution", "dct:title": {"@value": "Levels in May"},
         "dcat:downloadURL": {"@id": "data/may.csv"}, "dcat:byteSize": {"@value": str(len(MAY))},
         "spdx:checksum": {"spdx:algorithm": {"@id": "spdx:checksumAlgorithm_sha256"},
                           "spdx:checksumValue": sha(MAY)}},
        {"http://www.w3.org/ns/dcat#downloadURL": [{"@id": "data/june.csv"}],
         "http://www.w3.org/ns/dcat#byteSize": [{"@value": len(JUNE)}]},
        {"@type": "dcat:Distribution", "dcat:accessURL": {"@id": "https://h.example/portal"}},
    ],
}  # fmt: skip
LINKSET = {
    "linkset": [
        {"anchor": "data/", "item": [{"href": "data/may.csv", "title": "Levels in May"},
                                     {"href": "data/june.csv", "type": "text/csv"}],
         "license": [{"href": "https://licence.example/"}]},
    ]
}  # fmt: skip
PAGE = (
    '<!doctype html><title>Levels</title><a href="elsewhere.html">more</a>'
    '<script type="application/ld+json">not JSON</script>'
    '<script type="application/ld+json">'
    + json.dumps(
        {
            "@context": "https://schema.org/",
            "@type": "Dataset",
            "name": "Levels of the mere",
            "distribution": [
                {
                    "@type": "DataDownload",
                    "contentUrl": "data/may.csv",
                    "name": "Levels in May",
                    "contentSize": str(len(MAY)),
                    "sha256": sha(MAY),
                },
                {"@type": "DataDownload", "contentUrl": "data/june.csv", "contentSize": "24 bytes"},
            ],
        }
    )
    + "</script>"
)


def put_up(place: StandIn, path: str, document: object, media_type: str = "") -> str:
    content = document if isinstance(document, str) else json.dumps(document)
    place.exhibits[path] = Exhibit(content.encode(), media_type=media_type)
    folder = path.rpartition("/")[0]
    for name, data in (("may", MAY), ("june", JUNE)):
        place.exhibits[f"{folder}/data/{name}.csv"] = Exhibit(data)
    return f"{place.base}/{path}"


@pytest.mark.parametrize(
    ("path", "document", "media_type", "told"),
    [
        ("pub/datapackage.json", PACKAGE, "", False),
        ("pub/ro-crate-metadata.json", CRATE, "", False),
        ("pub/levels", DCAT, "application/ld+json", False),
        ("pub/levels.jsonld", DCAT, "application/octet-stream", True),
        ("pub/levels", LINKSET, "application/linkset+json", False),
        ("pub/levels.html", PAGE, "", True),
    ],
    ids=["package", "crate", "dcat", "dcat as", "linkset", "page"],
)
def test_what_a_catalogue_describes_is_hauled_and_proved(
    tmp_path: Path, place: StandIn, path: str, document: object, media_type: str, told: bool
) -> None:
    address = put_up(place, path, document, media_type)
    source = [address, *(["--as", "catalogue"] if told else [])]
    found = run("survey", *source, "--json", cwd=tmp_path)
    assert found.code == 0, found.err
    offers = found.json()["offers"]
    assert [offer["path"] for offer in offers] == ["data/may.csv", "data/june.csv"]
    assert offers[0]["text"] == "Levels in May"
    if document is not LINKSET:
        assert offers[0]["size"] == len(MAY)
        assert offers[0]["heading"] == "Levels of the mere"
    done = run("haul", *source, "--into", "data", cwd=tmp_path)
    assert done.code == 0, done.err
    assert files_in(tmp_path / "data") == {"data/may.csv": MAY, "data/june.csv": JUNE}
    if document is not LINKSET:
        rows = run("receipt", "data", "--json", cwd=tmp_path).json()["files"]
        assert rows[0]["verdict"] == "sha256 from the catalogue", rows[0]
        place.exhibits["pub/data/may.csv"] = Exhibit(MAY.replace(b"1.2", b"9.9"))
        refused = run("haul", *source, "--into", "other", cwd=tmp_path)
        assert refused.code == 4
        assert "from the catalogue" in refused.err + refused.out


TIMES = (datetime(2031, 5, 1, tzinfo=UTC), datetime(2031, 5, 31, tzinfo=UTC))
BOX = (4.1, 52.0, 4.3, 52.2)
ITEM = {
    "stac_version": "1.0.0", "type": "Feature", "id": "mere-2031-05", "bbox": [*BOX],
    "geometry": None, "links": [{"rel": "license", "href": "https://licence.example/"}],
    "properties": {"datetime": None, "start_datetime": "2031-05-01T00:00:00Z",
                   "end_datetime": "2031-05-31T00:00:00Z", "sci:citation": "Sedge (2031)"},
    "assets": {"levels": {"href": "data/may.csv", "type": "text/csv"}},
}  # fmt: skip
COLLECTION = {
    "stac_version": "1.0.0", "type": "Collection", "id": "mere", "license": "https://licence.example/",
    "sci:citation": "Sedge (2031)", "links": [],
    "extent": {"spatial": {"bbox": [[4.1, 52.0, -2.0, 4.3, 52.2, 9.0]]},
               "temporal": {"interval": [["2031-05-01T00:00:00Z", "2031-05-31T00:00:00Z"]]}},
    "assets": {"levels": {"href": "data/may.csv", "type": "text/csv"}},
}  # fmt: skip
DESCRIBED_DCAT = {
    "@type": "dcat:Dataset", "dct:license": {"@id": "https://licence.example/"},
    "dct:bibliographicCitation": "Sedge (2031)",
    "dct:temporal": {"dcat:startDate": {"@value": "2031-05-01"}, "dcat:endDate": "2031-05-31"},
    "dct:spatial": {"dcat:bbox": "POLYGON((4.1 52.0, 4.3 52.0, 4.3 52.2, 4.1 52.2, 4.1 52.0))"},
    "dcat:distribution": {
        "dcat:downloadURL": {"@id": "data/may.csv"},
        "dcat:mediaType": {"@id": "https://www.iana.org/assignments/media-types/text/csv"},
    },
}  # fmt: skip
SCHEMA = {
    "@context": "https://schema.org/", "@type": "Dataset", "license": "https://licence.example/",
    "citation": "Sedge (2031)", "temporalCoverage": "2031-05-01/2031-05-31",
    "spatialCoverage": {"@type": "Place", "geo": {"@type": "GeoShape", "box": "52.0 4.1 52.2 4.3"}},
    "distribution": [{"contentUrl": "data/may.csv", "encodingFormat": "text/csv"}],
}  # fmt: skip
RIGHTS = {
    "resources": [{"path": "data/may.csv", "mediatype": "text/csv"}], "citation": "Sedge (2031)",
    "licenses": [{"name": "FEN-1.0", "path": "https://licence.example/"}],
}  # fmt: skip
LINKED = {
    "linkset": [{"item": [{"href": "data/may.csv", "type": "text/csv"}],
                 "license": [{"href": "https://licence.example/"}],
                 "cite-as": [{"href": "Sedge (2031)"}]}]
}  # fmt: skip


@pytest.mark.parametrize(
    ("document", "has_extent"),
    [(ITEM, True), (COLLECTION, True), (DESCRIBED_DCAT, True), (SCHEMA, True), (RIGHTS, False),
     (LINKED, False)],
    ids=["item", "collection", "dcat", "schema", "package", "linkset"],
)  # fmt: skip
def test_rights_times_and_places_are_read(document: object, *, has_extent: bool) -> None:
    read = read_catalogue(json.dumps(document).encode(), "https://h.example/pub/c", "c")
    assert read is not None
    (offer,) = read.offers
    extent = DataExtent("text/csv", *TIMES, BOX) if has_extent else DataExtent("text/csv")
    assert (offer.licence, offer.citation) == ("https://licence.example/", "Sedge (2031)")
    assert offer.extent == extent
    (kept,) = OfferStore([offer])
    assert kept == offer


def test_a_long_collection_is_read_item_by_item(monkeypatch: pytest.MonkeyPatch) -> None:
    """As it would be as a whole; and one that breaks off counts as far as it came."""
    document = {
        "type": "FeatureCollection",
        "links": [{"rel": "next", "href": "?page=2"}],
        "license": "FEN-1.0",
        "features": [ITEM | {"id": str(n)} for n in range(50)],
    }
    content = json.dumps(document).encode()
    whole = read_catalogue(content, "https://h.example/search", "s")
    monkeypatch.setattr(catalogue_reader, "_LONG_BYTES", 1000)
    assert read_catalogue(content, "https://h.example/search", "s") == whole
    assert whole is not None
    assert len(whole.offers) == 50
    cut = read_catalogue(content[: len(content) // 2], "https://h.example/search", "s")
    assert cut is not None
    assert 10 < len(cut.offers) < 30
    assert cut.problems == ["it breaks off, or is not JSON"]


def test_odd_extents_are_unknown() -> None:
    for box in (None, [], "4,5,6,7", [1, 2, 3], [4, 60, 5, 50], ["a", 1, 2, 3], [999, 0, 9, 9]):
        read = read_catalogue(json.dumps(ITEM | {"bbox": box}).encode(), "https://h.example/", "c")
        assert read is not None
        assert read.offers[0].extent is not None
        assert read.offers[0].extent.box is None


@pytest.mark.parametrize(
    ("first", "second", "meet"),
    [
        ((4, 50, 5, 51), (4.5, 50.5, 9, 60), True), ((4, 50, 5, 51), (5.1, 50, 6, 51), False),
        ((4, 50, 5, 51), (4, 51.1, 5, 52), False), ((170, -9, -170, 9), (175, 0, 176, 1), True),
        ((170, -9, -170, 9), (-176, 0, -175, 1), True), ((170, -9, -170, 9), (0, 0, 9, 9), False),
        ((170, -9, -170, 9), (160, 0, -179, 1), True),
    ],
)  # fmt: skip
def test_boxes_meet_also_across_the_180th_meridian(first: Any, second: Any, *, meet: bool) -> None:
    for one, other in ((first, second), (second, first)):
        assert is_within_box(Offer("https://h/x", extent=DataExtent(box=one)), other) is meet


def test_data_are_chosen_by_time_and_place_and_their_rights_are_kept(
    tmp_path: Path, place: StandIn
) -> None:
    items = []
    for month, west in ((5, 4.1), (6, 4.2), (7, 9.0)):
        span = {"start_datetime": f"2031-{month:02}-01T00:00:00Z",
                "end_datetime": f"2031-{month:02}-28T00:00:00Z", "license": "FEN|1.0",
                "sci:citation": "=Sedge (2031)"}  # fmt: skip
        assets = {"levels": {"href": f"data/{month}.csv", "type": "text/csv; charset=utf-8"},
                  "map": {"href": f"data/{month}.tif"}}  # fmt: skip
        items.append(ITEM | {"id": str(month), "bbox": [west, 52, west + 0.1, 52.1],
                             "properties": span, "assets": assets})  # fmt: skip
        for name in ("csv", "tif"):
            place.exhibits[f"pub/data/{month}.{name}"] = Exhibit(b"%d %s" % (month, name.encode()))
    address = put_up(
        place, "pub/search", {"type": "FeatureCollection", "features": items, "links": []},
        "application/geo+json",
    )  # fmt: skip

    def chosen(*options: str) -> list[str]:
        found = run("survey", address, "--json", *options, cwd=tmp_path)
        assert found.code in (0, 3), found.err
        return [each["path"] for each in found.json()["offers"]] if not found.code else []

    assert len(chosen()) == 6
    assert chosen("--media-type", "TEXT/*") == ["5/5.csv", "6/6.csv", "7/7.csv"]
    assert chosen("--media-type", "image/tiff", "--within-box", "4.0,51,4.15,53") == ["5/5.tif"]
    assert chosen("--within-time", "2031-05-28/2031-06-01", "--ext", "csv") == [
        "5/5.csv",
        "6/6.csv",
    ]
    assert chosen("--within-time", "2031-06-29/", "--ext", "csv") == ["7/7.csv"]
    assert chosen("--within-time", "2031-06-15", "--within-box", "8,0,10,60") == []
    for option, words in {
        "--within-box=4,5,6": "not four numbers; write WEST,SOUTH,EAST,NORTH",
        "--within-box=4,60,6,50": "not a box in degrees",
        "--within-time=2031-06-01/2031-05-01": "not a span of time; write FROM/UNTIL",
        "--within-time=May": "write FROM/UNTIL",
    }.items():
        refused = run("survey", address, option, cwd=tmp_path)
        assert (refused.code, len(refused.err.splitlines())) == (2, 1), refused.err
        assert words in refused.err
    # By way of a cart, rights come to the ledger and into the manifests.
    loaded = run("load", address, "--cart", "cart.csv", "--ext", "csv", cwd=tmp_path)
    assert loaded.code == 0, loaded.err
    assert (tmp_path / "cart.csv").read_text().splitlines()[0].endswith("url,licence,citation")
    assert run("haul", "cart.csv", "--into", "data", cwd=tmp_path).code == 0
    package = run("receipt", "data", "--manifest", "datapackage", cwd=tmp_path).json()
    assert package["resources"][0]["licenses"] == [{"name": "FEN|1.0"}]
    assert package["resources"][0]["citation"] == "=Sedge (2031)"
    crate = run("receipt", "data", "--manifest", "ro-crate", cwd=tmp_path).json()
    assert [each["license"] for each in crate["@graph"] if each["@type"] == "File"] == [
        "FEN|1.0"
    ] * 3
    report = run("receipt", "data", "--manifest", "markdown", cwd=tmp_path).out
    assert "  - Licence: FEN\\|1.0" in report
    assert "  - Cite as: =Sedge (2031)" in report


def test_a_page_that_names_its_files_in_link_fields_stands_for_them(
    tmp_path: Path, place: StandIn
) -> None:
    put_up(place, "pub/x.html", "<title>x</title>")
    page = b"<!doctype html><title>Levels</title><a href=about.html>about</a>"
    links = (
        '<data/may.csv>; rel=item; type="text/csv", </pub/data/june.csv>; rel="item", <p>; rel=up'
    )

    def answer(handler: Any) -> None:
        fields = {"Content-Type": "text/html", "Link": links, "Content-Length": str(len(page))}
        handler.start(200, fields)
        handler.wfile.write(page)

    place.exhibits["pub/levels"] = Exhibit(page, script=answer)
    done = run("haul", f"{place.base}/pub/levels", "--into", "data", cwd=tmp_path)
    assert done.code == 0, done.err
    assert files_in(tmp_path / "data") == {"data/may.csv": MAY, "data/june.csv": JUNE}


def test_a_bag_on_a_server_is_hauled_and_proved(tmp_path: Path, place: StandIn) -> None:
    files = {"data/may 1.csv": MAY, "data/100%.csv": JUNE, "data/far.csv": b"far"}
    place.exhibits |= {
        f"bag/{quote(path)}": Exhibit(content)
        for path, content in files.items()
        if "far" not in path
    }
    place.exhibits["elsewhere/x"] = Exhibit(b"far")
    manifest = "".join(
        f"{sha(content)}  {path.replace('%', '%25')}\n" for path, content in files.items()
    )
    odd = f"{sha(b'x')}  ../../evil.csv\nnonsense\n"
    place.exhibits["bag/bagit.txt"] = Exhibit(
        b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
    )
    place.exhibits["bag/manifest-sha256.txt"] = Exhibit(manifest.encode())
    place.exhibits["bag/fetch.txt"] = Exhibit(f"{place.base}/elsewhere/x 3 data/far.csv\n".encode())
    haul = ["haul", f"{place.base}/bag/bagit.txt", "--into", "data"]
    done = run(*haul, cwd=tmp_path)
    assert done.code == 0, done.err
    assert files_in(tmp_path / "data") == files
    rows = run("receipt", "data", "--json", cwd=tmp_path).json()["files"]
    assert {row["verdict"] for row in rows} == {"sha256 from the catalogue"}
    place.exhibits["bag/manifest-sha256.txt"] = Exhibit((manifest + odd).encode())
    again = run(*haul, cwd=tmp_path)
    assert again.code == 1
    assert again.err.count("line of the manifest not understood") == 2
    assert not list(tmp_path.rglob("*evil*"))
    del place.exhibits["bag/manifest-sha256.txt"]
    bare = run(*haul, cwd=tmp_path)
    assert "a bag without a manifest" in bare.err


def stac_item(base: str, name: str, content: bytes) -> dict[str, Any]:
    return {
        "stac_version": "1.0.0", "type": "Feature", "id": name,
        "geometry": None, "properties": {"datetime": "2031-05-10T06:00:00Z"},
        "assets": {
            "scene": {"href": f"{base}/scenes/{name}/scene.tif", "title": "Scene",
                      "file:size": len(content), "file:checksum": f"1220{sha(content)}"},
        },
        "links": [{"rel": "self", "href": f"{base}/items/{name}"}],
    }  # fmt: skip


def test_search_pages_and_static_catalogues_of_scenes(tmp_path: Path, place: StandIn) -> None:
    base = place.base
    scenes = {name: name.encode() * 100 for name in ("alder", "birch", "cress")}
    for name, content in scenes.items():
        place.exhibits[f"scenes/{name}/scene.tif"] = Exhibit(content)
        item = stac_item(base, name, content)
        place.exhibits[f"items/{name}"] = Exhibit(
            json.dumps(item).encode(), media_type="application/geo+json"
        )
    pages: tuple[list[str], ...] = (["alder", "birch"], ["cress"], [])
    for number, names in enumerate(pages, 1):
        page = {
            "type": "FeatureCollection",
            "features": [stac_item(base, name, scenes[name]) for name in names],
            "links": [{"rel": "next", "href": f"{base}/search/{min(number + 1, 3)}"}],
        }
        place.exhibits[f"search/{number}"] = Exhibit(
            json.dumps(page).encode(), media_type="application/geo+json"
        )
    links = [{"rel": "item", "href": f"../items/{name}"} for name in scenes]
    root = {"stac_version": "1.0.0", "type": "Catalog", "id": "mere",
            "links": [*links, {"rel": "child", "href": "root.json"}]}  # fmt: skip
    place.exhibits["catalogue/root.json"] = Exhibit(json.dumps(root).encode())
    expected = {f"{name}/scene.tif": content for name, content in scenes.items()}
    for number, source in enumerate((
        [f"{base}/search/1", "--pages", "all"],
        [f"{base}/catalogue/root.json", "--as", "catalogue"],
    )):  # fmt: skip
        done = run("haul", *source, "--into", f"d{number}", cwd=tmp_path)
        assert done.code == 0, done.err
        assert files_in(tmp_path / f"d{number}") == expected
    one = run("survey", f"{base}/search/1", "--json", cwd=tmp_path)
    assert len(one.json()["offers"]) == 2, "further pages are for --pages"


def test_a_document_that_is_no_catalogue(tmp_path: Path, place: StandIn) -> None:
    address = put_up(place, "pub/levels.json", {"levels": [1.2, 1.4]})
    refused = run("survey", address, "--as", "catalogue", cwd=tmp_path)
    assert (refused.code, len(refused.err.splitlines())) == (2, 1)
    assert "describes no files by a standard that is known" in refused.err
    assert run("survey", address, cwd=tmp_path).last_line.startswith("1 offer"), "it is a file"
    geometry = {"type": "FeatureCollection", "features": []}
    named = put_up(place, "pub/mere", geometry, "application/geo+json")
    assert run("survey", named, cwd=tmp_path).last_line.startswith("1 offer"), "data as well"


ODD_RESOURCES = [
    None, 7, {"path": 9}, {"path": [{"x": 1}]}, {"path": "../../../etc/passwd"},
    {"path": "file:///etc/passwd"}, {"path": "a.csv", "bytes": True, "hash": "md5:nonsense"},
    {"path": "b.csv", "bytes": -5, "hash": 7},
]  # fmt: skip
ODD_ASSETS = {
    "a": 7, "b": {"href": None},
    "c": {"href": "c.tif", "file:size": "many", "file:checksum": "1220zz"},
}  # fmt: skip


@pytest.mark.parametrize(
    "document",
    [
        "[" * 100_000,
        json.dumps({"resources": ODD_RESOURCES}),
        json.dumps({"stac_version": 1, "assets": ODD_ASSETS, "links": [7, {"rel": "item"}]}),
        '{"linkset": [7, {"item": [7, {"href": 3}, {"href": "d.csv"}]}]}',
        '{"@graph": [{"@type": "File", "@id": "e.csv"}, {"contentUrl": {"@id": "f.csv"}}]}',
    ],
    ids=["deep", "package", "assets", "linkset", "graph"],
)
def test_odd_documents_are_read_as_far_as_they_make_sense(document: str) -> None:
    listing = read_catalogue(document.encode(), "https://h.example/pub/c.json", "c")
    offers = [] if listing is None else listing.offers
    names = {offer.file_name for offer in offers}
    assert names <= {"a.csv", "b.csv", "c.tif", "d.csv", "f.csv", "passwd"}
    assert all(offer.address.startswith("https://h.example/") for offer in offers)
    assert all(offer.size is None and not offer.checksums for offer in offers)


def test_words_are_found_by_any_prefix() -> None:
    assert value_of({"http://www.w3.org/ns/dcat#downloadURL": [{"@id": "x"}]}, "downloadURL") == "x"
    assert value_of({"@type": ["schema:Dataset", "File"]}, "@type") == "Dataset File"
    assert value_of({"name": {"@value": 7}}, "name") == "7"
    nested = [{"a": [{"b": {}}]}, {"c": 1}]
    assert [sorted(each) for each in nodes_in(nested)] == [["a"], ["b"], [], ["c"]]


DCAT_WORDS, SPDX, TERMS = (
    "http://www.w3.org/ns/dcat#",
    "http://spdx.org/rdf/terms#",
    "http://purl.org/dc/terms/",
)
PREFIXES = {"dcat": DCAT_WORDS, "spdx": SPDX, "dct": TERMS}


def linked(form: str, digest: str) -> dict[str, Any]:
    """One dataset with one distribution, as different programs write it."""
    algorithm = f"{SPDX}checksumAlgorithm_sha256"
    if form == "nested":
        return {
            "@context": PREFIXES, "@type": "dcat:Dataset", "dct:title": "Levels",
            "dct:license": {"@id": "https://rights.example/by"},
            "dcat:distribution": {
                "@type": "dcat:Distribution", "dcat:downloadURL": {"@id": "levels.csv"},
                "spdx:checksum": {"spdx:algorithm": {"@id": algorithm},
                                  "spdx:checksumValue": digest},
            },
        }  # fmt: skip
    flat: list[Any] = [
        {"@id": "#set", "@type": ["dcat:Dataset"], "dct:title": [{"@value": "Levels"}],
         "dct:license": {"@id": "https://rights.example/by"},
         "dcat:distribution": [{"@id": "#d"}]},
        {"@id": "#d", "@type": "dcat:Distribution", "dcat:downloadURL": {"@id": "levels.csv"},
         "spdx:checksum": {"@id": "#sum-5"}},
        {"@id": "#sum-5", "@type": "spdx:Checksum", "spdx:algorithm": {"@id": algorithm},
         "spdx:checksumValue": {"@type": "http://www.w3.org/2001/XMLSchema#hexBinary",
                                "@value": digest}},
    ]  # fmt: skip
    if form == "flat":
        return {"@context": PREFIXES, "@graph": flat}
    if form == "bare nodes":
        names = [json.loads(json.dumps(node).replace("#sum-5", "_:b5")) for node in flat]
        return {"@context": PREFIXES, "@graph": names}
    typed: dict[str, Any] = {
        "id": "@id",
        "type": "@type",
        "Dataset": f"{DCAT_WORDS}Dataset",
        "title": f"{TERMS}title",
        "place": {"@id": f"{DCAT_WORDS}downloadURL", "@type": "@id"},
        "sum": {"@id": f"{SPDX}checksum", "@type": "@id"},
        "how": {"@id": f"{SPDX}algorithm", "@type": "@vocab"},
        "sha256": f"{SPDX}checksumAlgorithm_sha256",
        "digits": f"{SPDX}checksumValue",
        "files": {"@reverse": f"{DCAT_WORDS}isDistributionOf", "@type": "@id"},
        "rights": {"@id": f"{TERMS}license", "@type": "@id"},
    }
    nodes = [
        {"id": "#d", "place": "levels.csv", "sum": "#sum-5"},
        {"id": "#sum-5", "how": "sha256", "digits": digest},
    ]
    top: dict[str, Any] = {"id": "#set", "type": "Dataset", "title": "Levels", "files": ["#d"],
           "rights": "https://rights.example/by"}  # fmt: skip
    if form == "typed terms":
        return {"@context": typed, "@graph": [top, *nodes]}
    if form == "included":
        return {"@context": {"@version": 1.1, **typed}, **top, "@included": nodes}
    assert form == "a context elsewhere"
    named = {"id": "#d", "downloadURL": "levels.csv", "checksum": "#sum-5"}
    sums = {"id": "#sum-5", "algorithm": algorithm, "checksumValue": digest}
    top = {"id": "#set", "type": "Dataset", "title": "Levels", "distribution": ["#d"],
           "license": "https://rights.example/by"}  # fmt: skip
    return {"@context": "https://contexts.example/dcat.jsonld", "@graph": [top, named, sums]}


FORMS = ["nested", "flat", "bare nodes", "typed terms", "included", "a context elsewhere"]


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("is_right", [True, False], ids=["right", "wrong"])
def test_checksums_are_found_in_any_form_of_linked_data(
    tmp_path: Path, place: StandIn, form: str, *, is_right: bool
) -> None:
    content = b"station,level\n"
    place.exhibits["data/levels.csv"] = Exhibit(content)
    digest = hashlib.sha256(content if is_right else b"another").hexdigest()
    place.exhibits["data/catalogue.jsonld"] = Exhibit(
        json.dumps(linked(form, digest)).encode(), media_type="application/ld+json"
    )
    haul = ["haul", f"{place.base}/data/catalogue.jsonld", "--into", "x", "--must-check"]
    done = run(*haul, cwd=tmp_path)
    assert "context" not in done.err, done.err
    if not is_right:
        assert done.code == 4
        assert "sha256 mismatch" in done.err
        assert files_in(tmp_path / "x") == {}
        return
    assert done.code == 0, done.err
    assert files_in(tmp_path / "x") == {"levels.csv": content}
    document = json.dumps(linked(form, digest)).encode()
    listing = read_catalogue(document, f"{place.base}/data/catalogue.jsonld", "")
    assert listing is not None
    assert [each.licence for each in listing.offers] == ["https://rights.example/by"]


def test_paths_in_packages_are_paths(tmp_path: Path, place: StandIn) -> None:
    files = {"p/a #1.csv": b"1", "p/what?.csv": b"2", "p/in/100%.csv": b"3", "secret.csv": b"no"}
    for path, content in files.items():
        place.exhibits[quote(path)] = Exhibit(content)
    paths = ["a #1.csv", "what?.csv", "in/100%.csv", "../secret.csv", "/secret.csv",
             f"{place.base}/p/in/100%25.csv"]  # fmt: skip
    package = {"name": "reeds", "resources": [{"name": f"r{n}", "path": p}
                                              for n, p in enumerate(paths)]}  # fmt: skip
    place.exhibits["p/datapackage.json"] = Exhibit(json.dumps(package).encode())
    done = run("haul", f"{place.base}/p/datapackage.json", "--into", "x", cwd=tmp_path)
    assert done.code == 0, done.err
    assert files_in(tmp_path / "x") == {"a #1.csv": b"1", "what_.csv": b"2", "in/100%.csv": b"3"}
    assert "outside of it" in done.err


LINKSET_TEXT = """<levels.csv>;
   rel="item"; type="text/csv"; title="Levels"; anchor="/about",
 <https://rights.example/by>; rel="license"; anchor="/about",
 <maps/reed.tif>; rel=item ; anchor="/about"
"""


def test_linksets_in_text_are_read_and_followed_from_pages(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["set/levels.csv"] = Exhibit(b"l")
    place.exhibits["set/maps/reed.tif"] = Exhibit(b"II*\0" + b"m" * 40)
    place.exhibits["set/links"] = Exhibit(LINKSET_TEXT.encode(), media_type="application/linkset")

    def about(handler: Any) -> None:
        body = b"<!doctype html><html><title>About</title><p>The data.</html>"
        handler.send_response(200)
        handler.send_header("Content-Type", "text/html")
        handler.send_header("Link", '<set/links>; rel="linkset"; type="application/linkset"')
        handler.send_header("Content-Length", str(len(body)))
        handler.end_headers()
        handler.wfile.write(body)

    place.exhibits["about"] = Exhibit(script=about)
    for number, source in enumerate(("set/links", "about")):
        done = run("haul", f"{place.base}/{source}", "--into", f"x{number}", cwd=tmp_path)
        assert done.code == 0, done.err
        assert sorted(Path(p).name for p in files_in(tmp_path / f"x{number}")) == [
            "levels.csv", "reed.tif",
        ]  # fmt: skip
    read = read_linkset_text(LINKSET_TEXT.encode(), f"{place.base}/set/links", "")
    assert {each.licence for each in read.offers} == {"https://rights.example/by"}


def test_searches_that_go_on_by_posting_are_followed(
    tmp_path: Path, place: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(StandInHandler, "do_POST", StandInHandler.do_GET, raising=False)
    posted: list[dict[str, Any]] = []

    def search(handler: Any) -> None:
        page = 0
        if handler.command == "POST":
            length = int(handler.headers["Content-Length"])
            posted.append(json.loads(handler.rfile.read(length)))
            page = posted[-1]["token"]
        body: dict[str, Any] = {
            "type": "FeatureCollection", "links": [],
            "features": [{"type": "Feature", "stac_version": "1.0.0", "id": f"scene-{page}",
                          "assets": {"data": {"href": f"{place.base}/scenes/{page}.tif"}}}],
        }  # fmt: skip
        if page < 3:
            body["links"] = [
                {"rel": "next", "method": "POST", "href": f"{place.base}/search",
                 "body": {"collections": ["fen"], "token": page + 1}}
            ]  # fmt: skip
        content = json.dumps(body).encode()
        handler.send_response(200)
        handler.send_header("Content-Type", "application/geo+json")
        handler.send_header("Content-Length", str(len(content)))
        handler.end_headers()
        handler.wfile.write(content)

    place.exhibits["search"] = Exhibit(script=search)
    found = run("survey", f"{place.base}/search", "--pages", "9", "--json", cwd=tmp_path)
    assert found.code == 0, found.err
    names = [each["path"].rpartition("/")[2] for each in found.json()["offers"]]
    assert names == ["0.tif", "1.tif", "2.tif", "3.tif"]
    assert [each["token"] for each in posted] == [1, 2, 3]
