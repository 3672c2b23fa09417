"""The commands: what each is for, and the options that it has.

A command's request is loaded where it is wanted: most of the time of a short command would go to
the requests of others.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from importlib import import_module
from typing import TYPE_CHECKING, cast

from willow_cart.options.option import Option, groups_of

if TYPE_CHECKING:
    from willow_cart.requests.request import Request


@dataclass(frozen=True, slots=True)
class Group:
    """Options that stand together in help.

    Attributes:
        title: what they are about; empty for a command's first ones.
        options: what they are.
        text: a sentence about all of them; empty for none.
    """

    title: str
    options: tuple[Option, ...]
    text: str = ""


@dataclass(frozen=True, slots=True)
class Command:
    """A command of the program.

    Attributes:
        name: as it is typed.
        brief: what it does, in a few words.
        description: what it does, in a few sentences.
        defaults: what stands for options that are not given, where that is not what their
            definition says.
    """

    name: str
    brief: str
    description: str
    defaults: Mapping[str, object] = field(default_factory=dict)

    @property
    def request(self) -> type[Request]:
        """What is asked for by it; the fields are its options."""
        module = import_module(f"willow_cart.requests.{self.name}")
        return cast("type[Request]", getattr(module, f"{self.name.capitalize()}Request"))

    def arguments(self) -> Iterator[Option]:
        """Yield what it takes without a name."""
        for options in groups_of(self.request).values():
            yield from (option for option in options if option.is_argument)

    def groups(self) -> Iterator[Group]:
        """Yield its options by what they are about."""
        titled: dict[str, Group] = {}
        for group, options in groups_of(self.request).items():
            title = vars(group).get("group_title", "")
            named = tuple(option for option in options if not option.is_argument)
            before = titled.get(title, Group(title, ()))
            text = vars(group).get("group_text", before.text)
            if named:
                titled[title] = Group(title, before.options + named, text)
        yield from titled.values()

    def by_key(self) -> dict[str, Option]:
        """Return all options and arguments by their keys."""
        return {each.key: each for each in (*self.arguments(), *self.options())}

    def options(self) -> Iterator[Option]:
        """Yield all options, without the arguments."""
        for group in self.groups():
            yield from group.options


_COMMANDS = (
    Command(
        "survey",
        "look: what is offered and chosen, with counts and sizes; fetches no file",
        "Show what the sources offer and what the choosing options leave of it: a table or a "
        "tree, the total, and counts by kind and by heading. Fetches no file.",
    ),
    Command(
        "load",
        "put what is chosen in a cart: a table to look over, prune and haul",
        "Write what the sources offer and the choosing options leave into a cart, a CSV file "
        "with one row a file. Load again to bring it up to date: sizes and dates are renewed, "
        "what is new is added, what is not offered any more is marked, and what you have "
        "changed stays as it is. A name that ends in .txt, .jsonl or .meta4, or is fetch.txt, "
        "writes that form instead.",
    ),
    Command(
        "pick",
        "take rows of a cart out or put them back; without options, in a view to tick in",
        "Mark rows of a cart by the same options that choose everywhere, or tick them in a view "
        "where none of --out, --only and --back is given. Nothing is deleted: a row that is out "
        "has an empty take, and can be put back. What the cart was before is kept for --undo.",
        # Where a rule cannot tell, a row stays as it is, whichever way it is picked.
        {"undated": "", "unsized": ""},
    ),
    Command(
        "weigh",
        "what a cart weighs, by kind, folder, source and month; does it fit; split it",
        "Count and add up what is taken of a cart: by kind, folder, source and month, with the "
        "largest files, the free space, and how long it takes. Sizes that are not known are "
        "counted apart. With --drives or --shares also write one cart for each drive or "
        "machine.",
    ),
    Command(
        "haul",
        "bring what is chosen home: fetch with resume, check, file",
        "Fetch what the sources offer and the choosing options leave, check it, and file it. A "
        "file appears under its name only whole and checked. Run the same command again to go "
        "on after any break, and next month to renew what has changed.",
    ),
    Command(
        "unpack",
        "take out what is in archives that were hauled, or lie anywhere here",
        "Unpack archives: zip, tar (also packed by gzip, bzip2, xz or Zstandard), and single "
        "packed files. Of a folder that was hauled into all its archives, or those that are "
        "chosen. Nothing gets out of its folder, and the ledger knows of every file what "
        "archive it was in. Run again, only what is new is unpacked.",
    ),
    Command(
        "combine",
        "put tables that were hauled together into one",
        "Put tables together: CSV and its relatives, also packed, and workbooks, into one table "
        "of a SQLite database, a Parquet file, a CSV or a JSON Lines file. How each is written "
        "is found out, and what a column holds is settled over all of them. Every row says what "
        "file it is from; run again, what already exists is not there twice.",
    ),
    Command(
        "pack",
        "pack what was hauled into one archive, the same to the byte every time",
        "Pack the files of a folder into a zip or tar.gz archive, with a list of their "
        "checksums and a Data Package descriptor of where they are from. The same files make "
        "the same archive. Every file is read and held against the ledger; what is not as it "
        "was hauled is left out and told.",
    ),
    Command(
        "runs",
        "running and past hauls: list them, watch one, stop one",
        "List the hauls of this machine, in the background or not. Without a number the options "
        "mean the last one that is running. A stopped or interrupted haul resumes when its "
        "command is run again.",
    ),
    Command(
        "audit",
        "check what lies in a folder against its ledger, checksum lists, or where it came from",
        "Read every file that was hauled into a folder, and say what has changed, what is "
        "missing, and what no haul has brought. Fetches nothing, unless --repair.",
    ),
    Command(
        "receipt",
        "the account of the last haul into a folder, or of any before it",
        "Show what a haul brought: each file with its state, size, checksum and how it was "
        "checked. The figures are read from the ledger in the folder.",
    ),
    Command(
        "refile",
        "move what was hauled into a folder to where another rule wants it",
        "Move the files of a folder by another layout or template, and have its ledger know: "
        "later hauls find them there. All are moved or none. A file keeps the name that it has "
        "now, and what is not as it was filed stays where it is. The ledger tells of a file its "
        "address, its name, when it arrived and when it was changed last; of pages it tells "
        "nothing.",
    ),
    Command(
        "offline",
        "take a page, or a site's part, with all it needs to be read without a network",
        "Take pages with their pictures, styles, fonts, scripts and media, and make copies that "
        "lead to each other instead of to the network. What was served lies in DIR/as-served, "
        "byte for byte; what is to be read begins at DIR/index.html. Run it again to renew what "
        "has changed. Choosing options choose among what links lead to; what a page needs is "
        "taken with it.",
    ),
    Command(
        "errand",
        "run a whole job that is written down in a file, again next month",
        "Run a job from its file, in TOML: where files come from, which of them, where they go, "
        "and what is done with them then. Every option of the commands is a key there. What "
        "changes from one run to the next, such as the month, is a value and stands in the "
        "texts by its name.",
    ),
    Command(
        "timetable",
        "have an errand run by itself, by cron or by systemd",
        "Print what makes an errand run by itself: a line for a crontab, and a timer with its "
        "service for systemd. Both have full paths and write what is said to a log beside the "
        "errand. With --install the line is put into your own crontab, in place of an earlier "
        "one for the same errand.",
    ),
    Command(
        "knock",
        "test a place: name, port, TLS, listing, fetching, resuming, checksums, clock",
        "Try a place step by step, and say what works, what does not, and what to do about it. "
        "Fetches no file.",
    ),
    Command(
        "settings",
        "show which settings count here, and where each comes from",
        "Show every setting that counts in this folder, with the file and the line that it is "
        "from. What is typed comes first, then what an errand says, then the project's file in "
        "this folder, then your own; all other settings have the defaults of the reference.",
    ),
    Command(
        "help",
        "read the guide, a topic at a time",
        "Show what the guide has to say of a topic: one of its headings, a part of one, or an "
        "option. Without a topic, show the headings.",
    ),
    Command(
        "completion",
        "have a shell complete commands and options",
        "Print what has a shell complete commands, options and their choices. For bash: "
        "'willow-cart completion bash > "
        "~/.local/share/bash-completion/completions/willow-cart'; for zsh write it to a file "
        "_willow-cart in a folder of $fpath; for fish to "
        "~/.config/fish/completions/willow-cart.fish.",
    ),
    Command(
        "demo",
        "run the full example against stand-in servers on this machine",
        "Start stand-ins for the made-up Harrowmere Wetland Trust's web server, its "
        "contractor's FTP outbox and its object store on this machine and run the full example "
        "against them, or keep them up to play with. Needs no network.",
    ),
)

COMMANDS: Mapping[str, Command] = {each.name: each for each in _COMMANDS}
"""The commands by their names, in the order in which people come to them."""
