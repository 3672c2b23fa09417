"""The receipt as a page, in a real browser: read, searched, read aloud, printed, in the dark."""

from __future__ import annotations

import base64
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.remote.webelement import WebElement

from tests.support.program import run
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.ledger.entries import Result
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.ledger.timeline import Timeline, TimelineWait
from willow_cart.model import State
from willow_cart.report import write_page
from willow_cart.report.page import MAX_LISTED_FILES

ODD = "odd/%3Cb%20onload=alert(1)%3E.csv"


@pytest.fixture(scope="module")
def page(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The page of a haul in which much went wrong."""
    work = tmp_path_factory.mktemp("page")
    with StandIn({}) as place:
        for number in range(12):
            place.exhibits[f"levels/{number}.csv"] = Exhibit(b"level\n" * (number + 1) * 100)
        place.exhibits["levels/3.csv"].refusals = [(503, {})]
        place.exhibits["maps/reeds.png"] = Exhibit(b"\x89PNG\r\n\x1a\nno end of it")
        place.exhibits["seasons/2027.zip"] = Exhibit(b"<!doctype html><title>Gone</title>" * 9)
        place.exhibits[ODD] = Exhibit(b"odd\n")
        lines = [f"{place.base}/{path}" for path in place.exhibits]
        (work / "list.txt").write_text("\n".join([*lines, f"{place.base}/none.csv"]))
        haul = ["haul", "list.txt", "--into", "may", "--inspect", "--pause", "0.1s"]
        assert run(*haul, "--note", "for <June>", cwd=work).code == 4
    outcome = run("receipt", "may", "--html", "may.html", cwd=work)
    assert (outcome.code, outcome.out, outcome.err) == (
        0, "", "willow-cart: written to may.html\n"
    )  # fmt: skip
    return work / "may.html"


@pytest.fixture
def shown(chromium: webdriver.Chrome, page: Path) -> Iterator[webdriver.Chrome]:
    """The page in a browser, which finds nothing wrong with it."""
    chromium.set_window_size(1280, 800)
    chromium.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "", "features": []})
    chromium.get(page.as_uri())
    yield chromium
    assert chromium.get_log("browser") == []  # type: ignore[no-untyped-call]


def rows_of(driver: webdriver.Chrome, table: str) -> list[WebElement]:
    found = driver.find_elements(By.CSS_SELECTOR, f"{table} tbody tr")
    return [row for row in found if row.is_displayed()]


def column(driver: webdriver.Chrome, number: int) -> list[str]:
    return [row.find_elements(By.TAG_NAME, "td")[number].text for row in rows_of(driver, "#list")]


def test_what_came_of_it_comes_first_then_what_went_wrong(shown: webdriver.Chrome) -> None:
    text = shown.find_element(By.TAG_NAME, "main").text
    assert text.startswith(
        "Receipt of haul 1 into may\n14 of 16 files are here; 1 failed and 1 refused.\nfor <June>"
    )
    headings = [each.text for each in shown.find_elements(By.TAG_NAME, "h2")]
    assert headings == [
        "Problems", "Bytes over time, by host", "Lanes over time", "Sizes by kind", "Files",
    ]  # fmt: skip
    troubles = {
        cells[1]: (cells[0], cells[2])
        for row in rows_of(shown, ".told")
        if len(cells := [cell.text for cell in row.find_elements(By.TAG_NAME, "td")]) == 5
    }
    assert troubles["seasons/2027.zip"][0] == "refused"
    assert troubles["seasons/2027.zip"][1].startswith('the server sent a page, "Gone"; open it')
    assert "404 Not Found" in troubles["none.csv"][1]
    assert troubles["maps/reeds.png"][0] == "arrived, damaged inside"
    assert len(troubles) == 3


def test_files_are_found_by_words(shown: webdriver.Chrome) -> None:
    field = shown.find_element(By.ID, "find")
    found = shown.find_element(By.ID, "found")
    assert found.text == "16 of 16 shown"
    field.send_keys("LEVELS 3.csv")
    assert column(shown, 2) == ["levels/3.csv"]
    assert found.text == "1 of 16 shown"
    field.clear()
    field.send_keys("nothing of the kind")
    assert (rows_of(shown, "#list"), found.text) == ([], "0 of 16 shown")


def test_files_are_sorted_by_a_column_and_back(shown: webdriver.Chrome) -> None:
    head = shown.find_element(By.CSS_SELECTOR, "#list th:nth-child(4)")
    button = head.find_element(By.TAG_NAME, "button")
    button.click()
    assert head.get_attribute("aria-sort") == "ascending"
    sizes = column(shown, 3)
    assert sizes[:3] == ["4 B", "20 B", "600 B"]
    assert sizes[-3:] == ["7.20 kB", "", ""], "by size and not by its words; what is not here last"
    button.click()
    assert column(shown, 3)[0] == "7.20 kB"
    assert head.get_attribute("aria-sort") == "descending"


def test_the_figures_show_what_came_and_what_waited(shown: webdriver.Chrome) -> None:
    speed, lanes, kinds = shown.find_elements(By.CSS_SELECTOR, "figure svg")
    label = speed.get_attribute("aria-label") or ""
    assert "Bytes a second over time, by host. At most " in label
    assert "46.8 kB from 127.0.0.1:" in label
    assert len(speed.find_elements(By.TAG_NAME, "path")) > 3
    drawn = lanes.find_elements(By.TAG_NAME, "text")
    assert "lane 1" in [each.get_attribute("textContent") for each in drawn], "texts stay texts"
    waits = shown.find_element(By.CSS_SELECTOR, "details table").get_attribute("textContent") or ""
    assert "levels/3.csv503" in waits
    assert "1 time a file was postponed" in shown.find_element(By.TAG_NAME, "summary").text
    label = kinds.get_attribute("aria-label") or ""
    assert "table: 46.8 kB in 13 files; image: 20 B in 1 file" in label


def test_names_from_servers_are_words_and_nothing_else(shown: webdriver.Chrome) -> None:
    assert any("b onload=alert(1)" in path for path in column(shown, 2))
    assert shown.find_elements(By.TAG_NAME, "b") == []
    assert shown.execute_script("return performance.getEntriesByType('resource').length") == 0
    policy = shown.find_element(By.CSS_SELECTOR, "meta[http-equiv]").get_attribute("content")
    assert policy is not None
    assert policy.startswith("default-src 'none'; ")


CONTRAST = """
const parse = (text) => text.match(/[\\d.]+/g).slice(0, 3).map(Number);
const light = (rgb) => rgb.map((v) => v / 255)
  .map((v) => v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4)
  .reduce((sum, v, i) => sum + v * [0.2126, 0.7152, 0.0722][i], 0);
const paper = light(parse(getComputedStyle(document.body).backgroundColor));
return [...document.querySelectorAll("p, td, th, dt, a, summary, caption")]
  .map((each) => light(parse(getComputedStyle(each).color)))
  .map((ink) => (Math.max(ink, paper) + 0.05) / (Math.min(ink, paper) + 0.05))
  .reduce((least, each) => Math.min(least, each), 99);
"""


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_all_words_stand_out_in_either_theme(shown: webdriver.Chrome, theme: str) -> None:
    features = [{"name": "prefers-color-scheme", "value": theme}]
    shown.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": features})
    paper = shown.find_element(By.TAG_NAME, "body").value_of_css_property("background-color")
    assert paper == {"light": "rgba(251, 251, 249, 1)", "dark": "rgba(20, 25, 27, 1)"}[theme]
    assert shown.execute_script(CONTRAST) >= 4.5, "WCAG 2.1, 1.4.3"


def test_a_narrow_window_scrolls_only_up_and_down(shown: webdriver.Chrome) -> None:
    shown.set_window_size(500, 900)
    wide = shown.execute_script("return document.documentElement.scrollWidth - innerWidth")
    assert wide <= 0


def test_a_screen_reader_is_told_of_every_figure_and_table(shown: webdriver.Chrome) -> None:
    tree: dict[str, Any] = shown.execute_cdp_cmd("Accessibility.getFullAXTree", {})
    told: dict[str, list[str]] = {}
    for node in tree["nodes"]:
        if not node["ignored"]:
            name = node.get("name", {}).get("value", "")
            told.setdefault(node["role"]["value"], []).append(name)
    assert len(told["image"]) == 3, "small drawings in keys are left out"
    assert all(told["image"])
    assert "Files of this haul" in told["table"]
    assert all(told["table"])
    assert {"state", "path", "reason", "address", "attempts"} <= set(told["columnheader"])
    assert any("Find files" in name for name in told["searchbox"])


def test_it_prints_with_all_that_was_folded(shown: webdriver.Chrome) -> None:
    assert shown.find_element(By.TAG_NAME, "details").get_attribute("open") is None
    printed = shown.execute_cdp_cmd("Page.printToPDF", {"preferCSSPageSize": True})
    assert base64.b64decode(printed["data"]).startswith(b"%PDF-")
    assert shown.find_element(By.TAG_NAME, "details").get_attribute("open") == "true"


def test_a_page_says_how_many_files_it_leaves_out(tmp_path: Path) -> None:
    path = ledger_path(tmp_path / "many")
    path.parent.mkdir(parents=True)
    with Ledger(path, create=True) as ledger, ledger.transaction():
        haul = ledger.begin_run("willow-cart haul many.txt")
        for number in range(1, MAX_LISTED_FILES + 11):
            fine = number != MAX_LISTED_FILES + 5
            state, reason = (State.UNCHANGED, "") if fine else (State.FAILED, "404 Not Found")
            ledger.record(haul, Result(number, f"http://h/{number}", str(number), state, reason))
        timeline = Timeline()
        timeline.add(0, "h", 0.0, 3.0)
        timeline.add_wait(TimelineWait(3.0, 0, "1", "the server is busy", 2.0))
        ledger.keep_timeline(haul, timeline.as_text())
    write_page(tmp_path / "many", tmp_path / "many.html")
    text = (tmp_path / "many.html").read_text()
    assert "10 more files are not shown; receipt --csv lists all." in text
    assert text.count(f"/<wbr>{MAX_LISTED_FILES + 5}<") == 2, "among the troubles and the files"
    assert f"/<wbr>{MAX_LISTED_FILES}<" not in text
    assert "It was cut off;" in text
    table = run("receipt", "many", cwd=tmp_path).out
    assert table.splitlines()[4].split()[:2] == [str(MAX_LISTED_FILES + 5), "failed"]
    assert "18,010 more files, not shown; files with problems are listed first" in table


def test_a_page_that_cannot_be_written_is_told_and_nothing_is_left(page: Path) -> None:
    (page.parent / "nowhere").write_text("a file")
    outcome = run("receipt", "may", "--html", "nowhere/may.html", cwd=page.parent)
    assert outcome.code == 1
    assert "nowhere/may.html: cannot be written: file exists; name" in outcome.err
    assert not list(page.parent.glob(".*html*"))
