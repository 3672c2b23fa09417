"""The trust's field guide: a small site with everything that is hard to copy."""

from __future__ import annotations

from collections.abc import Sequence
from importlib.resources import files

from willow_cart.demo.harrowmere import Files, make_picture, make_sound

OLD_CHARSET = "text/html; charset=iso-8859-2"
"""What the server says of the oldest page, which does not say so itself."""

OLD_PAGE = "guide/old/1998.html"
"""That page."""

_SPECIES = {
    "birds": ("teal", "lapwing", "snipe", "bittern"),
    "plants": ("reed", "bogbean"),
}
_MARKS = {"birds": "&#xE003;", "plants": "&#xE001;"}
_NOTES = (
    "Seen from the causeway hide in the first light, when the water is still.",
    "Counts are made at dawn on the tenth of each month, by two observers.",
    "The reedbed is cut in turns, a fifth every winter, so that there is always cover.",
)


def make_field_guide() -> Files:
    """Return the site's files by path."""
    found: Files = {
        "guide/": _page("Field guide", _home(), folder="", canonical="./", extra=_HEAD),
        "guide/style/guide.css": _STYLE,
        "guide/style/colours.css": _COLOURS,
        "guide/style/paper.svg": _PAPER,
        "guide/style/ripple.png": make_picture("ripple", 12, width=32, height=32),
        "guide/style/marks.ttf": files("willow_cart.demo").joinpath("marks.ttf").read_bytes(),
        "guide/icon.png": make_picture("icon", 160, width=32, height=32),
        "guide/picture/mere.svg": _DRAWING,
        "guide/picture/mere-640.png": make_picture("mere 640", 150, width=640, height=240),
        "guide/picture/mere-1280.png": make_picture("mere 1280", 150, width=1280, height=480),
        "guide/sound/dawn.wav": make_sound(7, 12_000),
        "guide/script/marks.js": _SCRIPT,
        "guide/level.html": _page("Water level today", "<p>1.23 m at the north sluice", folder=""),
        "guide/private/nests.html": _page("Nests", "<p>Not for programs.", folder="../"),
    }
    index = found["guide/"]
    found["guide/index.html"] = index
    for kind, names in _SPECIES.items():
        listed = "".join(f'<li><a href="{name}.html">{name}</a>' for name in names)
        page = _page(kind.title(), f"<ul>{listed}</ul>", folder="../", canonical="./")
        found[f"guide/{kind}/"] = found[f"guide/{kind}/index.html"] = page
        for place, name in enumerate(names):
            path = f"guide/{kind}/{name}.html"
            found[path] = _page(name.title(), _species(kind, names, place), folder="../")
            found[f"guide/picture/{name}.png"] = make_picture(name, 40 * place + 20,
                                                              width=320, height=200)  # fmt: skip
    for number in (1, 2, 3):
        path = "guide/log" if number == 1 else f"guide/log?page={number}"
        found[path] = _page(f"Log, page {number}", _log(number), folder="")
    found[OLD_PAGE] = _OLD.encode("iso-8859-2")
    return found


def _page(title: str, body: str, *, folder: str, canonical: str = "", extra: str = "") -> bytes:
    """Return a page; `folder` is the path to the guide's folder."""
    link = f'<link rel=canonical href="{canonical}">' if canonical else ""
    return f"""<!doctype html>
<html lang="en">
<head><meta charset="utf-8"><title>{title} - Harrowmere field guide</title>{link}
<link rel="stylesheet" href="{folder}style/guide.css" integrity="" crossorigin>
<link rel="icon" href='{folder}icon.png'>{extra}
</head>
<body>
<nav><a href="{folder or "./"}">Guide</a> <a href="{folder}birds">Birds</a>
<a href="{folder}plants/">Plants</a> <a href="{folder}log;jsessionid=5E1F">Log</a>
<a href="{folder}old/1998.html">1998</a></nav>
<h1>{title}</h1>
{body}
</body></html>
""".encode()


_HEAD = """
<link rel="preconnect" href="https://pictures.harrowmere.example">
<meta http-equiv="Content-Security-Policy" content="default-src 'self' 'unsafe-inline'">
<style>main { background: url("style/paper.svg") } .mark::before { content: "\\E002" }</style>"""


def _home() -> str:
    return f"""<main>
<picture><source type="image/svg+xml" srcset="picture/mere.svg" media="(min-width: 4000px)">
<img src="picture/mere-640.png" alt="The mere" width=640 height=240
 srcset="picture/mere-640.png 640w, picture/mere-1280.png 1280w" sizes="640px"></picture>
<p class=mark>{_NOTES[0]} See the <a href="birds/teal.html#voice">teal's voice</a>, the
<a href="birds/index.html">birds</a> and the <a href="log?sid=77&amp;page=2">log</a>.
<p style="border-left: 4px solid; border-image: url('style/paper.svg') 4">{_NOTES[2]}
<iframe src="level.html" title="Level" width=300 height=90></iframe>
<audio controls src="sound/dawn.wav"></audio>
<object data="picture/mere.svg" type="image/svg+xml" width=200 height=80></object>
<p><a href="private/nests.html">Nests</a> <a href="../hides/2031.html">Hides</a>
<a href="https://harrowmere.example/visit?from=guide#way">Visit us</a>
<a href="mailto:guide@harrowmere.example">Write to us</a> <a href="gone.html">Otters</a>
</main><script src="script/marks.js"></script>"""


def _species(kind: str, names: Sequence[str], place: int) -> str:
    name = names[place]
    before, after = names[place - 1], names[(place + 1) % len(names)]
    return f"""<p><span class=mark>{_MARKS[kind]}</span>
<img src="../picture/{name}.png" alt="{name}" width=320 height=200>
<p>{_NOTES[1]}
<h2 id=voice>Voice</h2><p>{_NOTES[place % 3]} <a href="#voice">(here)</a>
<p><a rel=prev href="{before}.html">{before}</a> <a rel=next href="{after}.html">{after}</a>
<a href="./">all {kind}</a>"""


def _log(number: int) -> str:
    rows = "".join(
        f"<tr><td>2031-05-{10 * number + day:02d}<td>{_NOTES[day % 3]}" for day in range(1, 8)
        if 10 * number + day < 32
    )  # fmt: skip
    links = " ".join(
        f'<a href="{"log" if each == 1 else f"log?page={each}"}">{each}</a>' for each in (1, 2, 3)
    )
    return f"<table><tr><th>Day<th>Note{rows}</table><p>{links}"


_STYLE = b"""@charset "utf-8";
@import 'colours.css';
/* url(never-asked-for.png) */
@font-face { font-family: marks; src: url( "marks.ttf" ) format("truetype") }
body { margin: 0 auto; max-width: 46rem; padding: 1rem; font: 16px/1.5 "DejaVu Sans", sans-serif;
  background: var(--paper); color: #222 }
main { padding: .5rem 1rem }
nav { background: var(--reed) url(ripple.png); padding: .4rem }
nav a { color: #fff; margin-right: 1rem } a { color: var(--water) }
.mark, .mark::before { font-family: marks; color: var(--reed); font-size: 2rem }
p.mark { font-family: inherit; font-size: inherit; color: inherit }
table { border-collapse: collapse } td, th { border-bottom: 1px solid #ccc; padding: .2rem .6rem }
@media print { nav { background: url('never.png') } }
"""

_COLOURS = b":root { --reed: #4d6b3c; --water: #2f6f8f; --paper: #fbfaf4 }\n"

_SCRIPT = b'document.querySelector("h1").title = document.links.length + " links";\n'

_DRAWING = b"""<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink"
 viewBox="0 0 200 80"><rect width="200" height="80" fill="#2f6f8f"/>
<ellipse cx="100" cy="60" rx="90" ry="14" fill="#8fb8c8"/><path d="M10 60 L30 20 L50 60 Z"
 fill="#4d6b3c"/></svg>
"""

_PAPER = b"""<svg xmlns="http://www.w3.org/2000/svg" width="24" height="24">
<rect width="24" height="24" fill="#f4f1e2"/><circle cx="6" cy="6" r="1.5" fill="#e3dfc9"/></svg>
"""

_OLD = """<html><head><title>Łąka i bagno</title></head>
<body bgcolor=white background="../style/paper.svg">
<h1>Łąka i bagno, 1998</h1><p>Trzcina, żabieniec, wełnianka: tak było.
<p><a href="../">guide</a></body></html>
"""
