"""Catalogues by open standards as sources: what they describe, where it goes, and odd ones."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest

from tests.support.program import files_in, run
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.sources.catalogues.catalogue_reader import read_catalogue
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
