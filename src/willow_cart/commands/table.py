"""The commands, their descriptions, and their options.

A command's request is loaded where it is wanted: most of the time of a short command would go to
the requests of others.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from importlib import import_module
from typing import TYPE_CHECKING, cast

from willow_cart.options.option import Option
from willow_cart.structs import Value

if TYPE_CHECKING:
    from willow_cart.options.option import Request


_OF_THE_PROGRAM = frozenset({"timetable", "help", "completion", "demo"})
"""Commands whose requests are in one module, as they have no job of the core."""

_SECTIONS = ("", "looking", "choosing", "unpacking", "sign-in", "connecting", "pace")
"""The titles of groups, in the order of the help."""


class Group(Value):
    """A group of options in the help.

    Attributes:
        title: their subject; empty for a command's first ones.
        text: a sentence about all of them; empty for none.
    """

    title: str
    options: tuple[Option, ...]
    text: str = ""


class Command(Value):
    """A command of the program.

    Attributes:
        name: as it is typed.
        brief: its purpose in a few words.
        description: its purpose in a few sentences.
    """

    name: str
    brief: str
    description: str

    @property
    def request(self) -> type[Request]:
        """Return the class of its request, whose fields are its options."""
        home = "program" if self.name in _OF_THE_PROGRAM else self.name
        module = import_module(f"willow_cart.commands.{home}")
        return cast("type[Request]", getattr(module, f"{self.name.capitalize()}Request"))

    def arguments(self) -> Iterator[Option]:
        """Yield its positional arguments."""
        for _, _, options in self.request.homes():
            yield from (option for option in options if option.is_argument)

    def groups(self) -> Iterator[Group]:
        """Yield its options in groups."""
        titled: dict[str, Group] = {}
        for _, group, options in self.request.homes():
            named = tuple(option for option in options if not option.is_argument)
            before = titled.get(group.title, Group(group.title, ()))
            if named:
                text = group.text or before.text
                titled[group.title] = Group(group.title, before.options + named, text)
        yield from (titled[title] for title in _SECTIONS if title in titled)

    def by_key(self) -> dict[str, Option]:
        """Return all options and arguments by their keys."""
        return self.request.by_key()

    def options(self) -> Iterator[Option]:
        """Yield all options, without the arguments."""
        for group in self.groups():
            yield from group.options


_COMMANDS = (
    Command(
        "survey",
        "list what is offered and what is chosen, with counts and sizes; fetches no file",
        "List what the sources offer and what the choosing options leave: as a table or a tree, "
        "with the total and with counts by kind and by heading. Fetches no file.",
    ),
    Command(
        "peek",
        "show what is in a file, from a few of its bytes: columns, first rows, members",
        "Show what files contain without fetching them whole: the columns and first rows of "
        "tables, workbooks and Parquet files, the shape of JSON, the members of archives, the "
        "size of pictures, the duration of recordings, the pages of documents. The last line "
        "says how much of the file was fetched.",
    ),
    Command(
        "load",
        "write what is chosen into a cart: a table to review, edit and haul",
        "Write what the sources offer and the choosing options leave into a cart, a CSV file "
        "with one row per file. Load it again to update it: sizes and dates are renewed, new "
        "files are added, files that are no longer offered are marked, and your own changes are "
        "kept. A name that ends in .txt, .jsonl or .meta4, or the name fetch.txt, selects that "
        "format instead.",
    ),
    Command(
        "pick",
        "take rows of a cart out or put them back, by options or in a list on the terminal",
        "Mark rows of a cart by the choosing options, or select them in a list on the terminal "
        "if none of --out, --only, --back and --swap is given. Nothing is deleted: a row that is "
        "out has an empty cell in the column take, and can be put back. The last change can be "
        "undone with --undo.",
    ),
    Command(
        "weigh",
        "total a cart by kind, folder, source and month; check free space; split it",
        "Count and total the rows of a cart that are taken: by kind, folder, source and month, "
        "with the largest files, the free space and the expected duration. Unknown sizes are "
        "counted separately. --drives and --shares also write one cart per drive or machine.",
    ),
    Command(
        "haul",
        "fetch what is chosen, with resume; check it; file it",
        "Fetch what the sources offer and the choosing options leave, check it, and file it. A "
        "file gets its name only when it is complete and checked. Run the same command again to "
        "resume after an interruption, or next month to fetch what has changed.",
    ),
    Command(
        "unpack",
        "unpack archives that were hauled, or any archives on this machine",
        "Unpack archives: zip, tar (also compressed by gzip, bzip2, xz or Zstandard), and single "
        "compressed files. For a folder that was hauled into, unpack all its archives or those "
        "that are chosen. Nothing is written outside the folder, and the ledger records which "
        "archive each file came from. Run again, the command unpacks only what is new.",
    ),
    Command(
        "combine",
        "combine tables into one",
        "Combine tables (CSV and similar texts, also compressed, and workbooks) into one table "
        "of a SQLite or DuckDB database, a Parquet file, a CSV or a JSON Lines file. The encoding "
        "and delimiter of each file are detected, and the type of a column is decided over all "
        "files. Each row names its source file; run again, the command adds only what is new.",
    ),
    Command(
        "pack",
        "pack a folder into one reproducible archive",
        "Pack the files of a folder into a zip or tar.gz archive, with a checksum list and a "
        "Data Package descriptor of their origin. The same files make the same archive, byte for "
        "byte. Each file is read and compared with the ledger; files that changed since the haul "
        "are left out and reported.",
    ),
    Command(
        "runs",
        "running and past hauls: list them, watch one, stop one",
        "List the hauls on this machine, in the background or not. Without a number, the options "
        "refer to the last running haul. A stopped or interrupted haul resumes when its command "
        "is run again.",
    ),
    Command(
        "audit",
        "check the files in a folder against its ledger, checksum lists, or their origin",
        "Read every file that was hauled into a folder, and report what has changed, what is "
        "missing, and what came from no haul. Fetches nothing, except with --repair.",
    ),
    Command(
        "receipt",
        "show the account of the last haul into a folder, or of an earlier one",
        "Show what a haul fetched: each file with its state, size, checksum and how it was "
        "checked, as recorded in the folder's ledger.",
    ),
    Command(
        "refile",
        "move hauled files to a new layout",
        "Move the files of a folder to another layout or template, and record it in the ledger, "
        "so that later hauls find them. Either all files are moved or none. Files keep their "
        "current names; files that are missing or changed stay where they are. Fields that "
        "describe a page are not available, because the ledger does not record them.",
    ),
    Command(
        "offline",
        "copy pages with everything they need, to read them without a network",
        "Fetch pages with their images, styles, fonts, scripts and media, and write copies that "
        "link to each other instead of to the network. The original files are in DIR/as-served; "
        "start reading at DIR/index.html. Run the command again to update what has changed. The "
        "choosing options apply to linked pages; what a page needs is always fetched.",
    ),
    Command(
        "errand",
        "run a whole job from a file, again every month",
        "Run a job from a TOML file that says where files come from, which to choose, where they "
        "go, and what to do with them afterwards. Every option of the commands is a key in the "
        "file. What changes between runs, such as the month, is a value, which the texts refer "
        "to by name.",
    ),
    Command(
        "timetable",
        "schedule an errand with cron or systemd",
        "Print what is needed to run an errand on a schedule: a line for a crontab, and a timer "
        "and a service for systemd. Both use full paths and write the output to a log next to "
        "the errand. --install adds the line to your crontab, replacing an earlier one for the "
        "same errand.",
    ),
    Command(
        "knock",
        "test a server: name, port, TLS, listing, fetching, resuming, checksums, clock",
        "Test a server step by step, and report what works, what does not, and what to do about "
        "it. Fetches no file.",
    ),
    Command(
        "settings",
        "show the settings in effect, and where each comes from",
        "Show every setting in effect in this folder, with its file and line. Options on the "
        "command line take precedence, then the errand, then the project's file in this folder, "
        "then your own file; all other settings have the defaults in the reference.",
    ),
    Command(
        "help",
        "read the guide by topic",
        "Show what the guide says about a topic: a heading, part of a heading, or an option. "
        "Without a topic, list the headings.",
    ),
    Command(
        "completion",
        "print shell completion for commands and options",
        "Print the completion script of commands, options and their choices for a shell. For "
        "bash: 'willow-cart completion bash > "
        "~/.local/share/bash-completion/completions/willow-cart'; for zsh write it to a file "
        "_willow-cart in a folder of $fpath; for fish to "
        "~/.config/fish/completions/willow-cart.fish.",
    ),
    Command(
        "demo",
        "run the full example against demo servers on this machine",
        "Start servers on this machine for the fictional Harrowmere Wetland Trust: a web server, "
        "a contractor's outbox (FTP, SFTP), an object store and a portal. Run the full example "
        "against them, or "
        "keep them running to try things out. Needs no network.",
    ),
)

COMMANDS: Mapping[str, Command] = {each.name: each for each in _COMMANDS}
"""The commands by their names, in the order in which users come to them."""


STEPS = ("unpack", "combine", "pack", "receipt", "run")
"""What can be done with arrivals, by the key that names it."""

# Options that say what an errand says elsewhere, or that make no sense in unattended runs.
_ELSEWHERE = frozenset({"into", "cart", "add", "preview", "detach", "write_errand", "note"})
_CHOOSING_GROUPS = ("looking", "choosing", "sign-in")
_NOT_OF_HAULS = (*_CHOOSING_GROUPS, "connecting", "unpacking")

NOT_KEYWORDS = frozenset(
    (
        "into cart add preview detach write_errand to_script overwrite why json csv tree folders"
        " levels cluster brief"
    ).split()
)
"""Options that are parameters of the Python functions, and output formats for users."""

TABLES: Mapping[str, tuple[str, Sequence[str], Sequence[str]]] = {
    "source": ("load", _CHOOSING_GROUPS, ()),
    "connecting": ("load", ("connecting",), ()),
    "haul": ("haul", (), _NOT_OF_HAULS),
    "filing": ("refile", (), ()),
    **{what: (what, (), ()) for what in STEPS if what != "run"},
}
"""Whose options are keys of a table or a step: a command's, of some groups, without some."""


def options_of_command(
    command: str, groups: Sequence[str] = (), without: Sequence[str] = ()
) -> dict[str, Option]:
    """Return the options of a command by key, for all groups or some."""
    return {
        option.key: option
        for group in COMMANDS[command].groups()
        if (not groups or group.title in groups) and group.title not in without
        for option in group.options
    }


def options_of(table: str) -> dict[str, Option]:
    """Return the options that a table of an errand, or a step, may have, by key."""
    options = {
        key: option
        for key, option in options_of_command(*TABLES[table]).items()
        if key not in _ELSEWHERE
    }
    if table == "haul":
        for key in options_of("filing"):  # where files go is said there
            options.pop(key, None)
        # What is unpacked is said by steps; hauls open archives also to look into them.
        options["unpacked_at_most"] = options_of("unpack")["unpacked_at_most"]
    return options
