"""The start page: what was copied, when and from where, and what is missing."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape
from typing import TYPE_CHECKING
from urllib.parse import quote

from willow_cart.redaction import without_secrets
from willow_cart.structs import Value
from willow_cart.units import count_of
from willow_cart.version import __version__

if TYPE_CHECKING:
    from willow_cart.offline_copies.taking import Missing, TakenPages

_STYLE = """
body { font: 16px/1.5 system-ui, sans-serif; max-width: 60rem; margin: 2rem auto; padding: 0 1rem;
  color: #1f2a26; background: #fbfbf8; }
h1 { font-size: 1.5rem; } h2 { font-size: 1.15rem; margin-top: 2rem; }
ul { list-style: none; padding-left: 1.2rem; border-left: 1px solid #cfd6cf; }
body > ul { border: 0; padding: 0; } li { margin: .15rem 0; }
.folder { font-weight: 600; } small { color: #55645c; } a { color: #1d5f7a; }
table { border-collapse: collapse; width: 100%; } th { text-align: left; }
td, th { border-bottom: 1px solid #dde2dc; padding: .3rem .6rem .3rem 0; vertical-align: top;
  overflow-wrap: anywhere; }
@media (prefers-color-scheme: dark) {
  body { color: #d8ddd4; background: #14191a; } a { color: #8ec5e0; } small { color: #9aa79f; }
  ul { border-color: #3a4543; } td, th { border-color: #2b3433; }
}
"""


class StartPageEntry(Value):
    """A page that can be read.

    Attributes:
        path: below the destination.
        title: in one line; empty where it has none.
        address: that it was taken from.
    """

    path: str
    title: str
    address: str


def make_start_page(
    entries: Sequence[StartPageEntry], starts: Sequence[str], taken: TakenPages, when: str
) -> str:
    """Return the start page as self-contained HTML.

    Args:
        entries: the pages that can be read.
        starts: the paths of those that were requested.
        taken: what was taken, and what could not be fetched.
        when: the moment.
    """
    titles = {entry.path: entry.title or entry.path for entry in entries}
    links = ", ".join(
        f'<a href="{quote(path)}">{escape(titles.get(path, path))}</a>' for path in starts
    )
    sources = ", ".join(
        f'<a href="{escape(page, quote=True)}">{escape(page)}</a>'
        for page in map(without_secrets, taken.scope.pages)
    )
    parts = [
        '<!doctype html><html lang="en"><head><meta charset="utf-8">',
        '<meta name="viewport" content="width=device-width">',
        f"<title>{escape(titles.get(starts[0], 'Pages') if starts else 'Pages')}, offline</title>",
        f"<style>{_STYLE}</style></head><body>",
        f"<h1>{links or 'Nothing to read'}</h1>",
        f"<p>Copied on {escape(when)} from {sources}: {count_of(len(entries), 'page')}.",
        "Links to anything else are addresses on the web.</p>",
        "<h2>Pages</h2>",
        *_tree(entries),
    ]
    if taken.missing:
        parts += ["<h2>Missing files</h2>", *_table(taken.missing)]
    parts.append(f"<p><small>Made by willow-cart {__version__}</small></p></body></html>")
    return "\n".join(parts) + "\n"


def _tree(entries: Sequence[StartPageEntry]) -> list[str]:
    """Return the pages by folder, as on the site."""
    lines = []
    open_folders: list[str] = []
    for entry in sorted(entries, key=_in_order):
        _, *folders, name = entry.path.split("/")
        common = 0
        while common < min(len(folders), len(open_folders)) and (
            folders[common] == open_folders[common]
        ):
            common += 1
        lines += ["</ul></li>"] * (len(open_folders) - common)
        if not lines:
            lines.append("<ul>")
        for folder in folders[common:]:
            lines.append(f'<li><span class="folder">{escape(folder)}/</span><ul>')
        open_folders = folders
        title = escape(entry.title or name)
        lines.append(
            f'<li><a href="{quote(entry.path)}" title="{escape(entry.address, quote=True)}">{title}'
            f"</a> <small>{escape(name)}</small></li>"
        )
    return [*lines, *["</ul></li>"] * len(open_folders), "</ul>"] if lines else []


def _in_order(entry: StartPageEntry) -> tuple[list[str], bool, str]:
    """Sort a folder: its index first, pages before folders."""
    *folders, name = entry.path.split("/")
    return folders, name != "index.html", name


def _table(missing: Sequence[Missing]) -> list[str]:
    rows = [
        f"<tr><td>{escape(each.address)}<td>{escape(str(each.role))}<td>{escape(each.why)}"
        f"{'; an earlier version is here' if each.kept else ''}"
        f"<td>{'<br>'.join(map(escape, each.wanted_by)) or 'you'}</tr>"
        for each in missing
    ]
    head = "<table><tr><th>address<th>is<th>why<th>wanted by</tr>"
    return [head, *rows, "</table>"]
