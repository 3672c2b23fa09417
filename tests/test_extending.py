"""What CONTRIBUTING says of additions is so: the files that it names are all that is needed."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path

import pytest

from tests.support.docs import ROOT, docs_module
from tests.support.program import PATIENCE
from willow_cart.cli.arguments import given_by
from willow_cart.cli.commands.completion import run as complete
from willow_cart.cli.main import make_parser
from willow_cart.commands.errand import write_errand
from willow_cart.commands.haul import HaulRequest, make_policy
from willow_cart.commands.program import CompletionRequest
from willow_cart.commands.table import COMMANDS, Command
from willow_cart.errands import Values, read_document
from willow_cart.errands import job as errand_job
from willow_cart.errands.job import make_job
from willow_cart.options.groups import PaceOptions
from willow_cart.options.option import option
from willow_cart.options.readers import positive
from willow_cart.protocols import Access
from willow_cart.protocols.kept_answers import KeptAnswers
from willow_cart.protocols.router import ProtocolRouter

PAGE = (ROOT / "CONTRIBUTING.md").read_text()


def files_named_for(addition: str) -> list[str]:
    """The files that CONTRIBUTING names for an addition."""
    (line,) = re.findall(rf"^\| {addition} \| (.*) \|$", PAGE, re.MULTILINE)
    return re.findall(r"`([^`]+\.py)`", line)


def program(
    folder: Path, added: str, *words: str, source: Path = ROOT / "src"
) -> subprocess.CompletedProcess[str]:
    """Run the program with something added before its commands are imported."""
    start = "import sys\nfrom willow_cart.cli.main import main"
    return subprocess.run(
        [sys.executable, "-c", f"{added}\n{start}\nsys.exit(main({[*words]!r}))"], cwd=folder,
        capture_output=True, text=True, check=False, timeout=PATIENCE,
        env={"PYTHONPATH": f"{folder}:{source}:{ROOT}", "HOME": str(folder)},
    )  # fmt: skip


MEMORY = """
from willow_cart.protocols import Access
from willow_cart.protocols.fake import FakeAccess, FakeFile
from willow_cart.protocols.base import DirectoryEntry, DirectoryLister, FolderEntries

FILES = {"fen://h/a.csv": FakeFile(b"a"), "fen://h/b.csv": FakeFile(b"bb")}

class Fen(FakeAccess, DirectoryLister):
    def lister(self, address, *, webdav=False):
        return self
    def find(self, address):
        return DirectoryEntry(address, len(FILES[address].content)) if address in FILES else None
    def entries(self, folder):
        entries = (DirectoryEntry(each, len(file.content)) for each, file in FILES.items())
        return FolderEntries(list(entries))

def connect(settings):
    return Fen(FILES)
"""


def test_a_protocol_is_a_module_and_a_line(tmp_path: Path) -> None:
    assert files_named_for("protocol") == ["protocols/NAME.py", "schemes.py"]
    (tmp_path / "fen.py").write_text(MEMORY)
    line = (
        "from willow_cart import schemes\n"
        "schemes.SCHEMES['fen'] = schemes.Scheme('fen', 7070, 'fen', schemes.Lists.FOLDERS)"
    )
    hauled = program(tmp_path, line, "haul", "fen://H:7070/", "--into", "d")
    assert hauled.returncode == 0, hauled.stderr
    assert (tmp_path / "d" / "b.csv").read_bytes() == b"bb"
    one = program(tmp_path, line, "survey", "fen://h/a?.csv", "fen://h/a.csv", "--csv")
    assert one.stdout.splitlines()[-1].endswith(",fen://h/a.csv"), one.stderr
    unknown = program(tmp_path, line, "survey", "fan://h/")
    assert "or fen://" in unknown.stderr


def test_the_shipped_protocols_are_a_module_and_a_line_as_well() -> None:
    source = ROOT / "src" / "willow_cart"
    lines = [
        path.relative_to(source).as_posix()
        for path in source.rglob("*.py")
        for line in path.read_text().splitlines()
        if "willow_cart.protocols.webdav" in line
    ]
    assert lines == ["protocols/web.py"]
    schemes = (source / "schemes.py").read_text().splitlines()
    for scheme in ("s3", "ftp", "sftp", "file"):
        assert sum(line.strip().startswith(f'Scheme("{scheme}", ') for line in schemes) == 1, scheme


def test_a_cart_s_column_is_a_definition(tmp_path: Path) -> None:
    assert files_named_for("cart column") == ["cart/columns.py"]
    (tmp_path / "page.html").write_text('<a href="http://h/a.csv" title="Reed counts">a</a>')
    source = tmp_path / "src"
    shutil.copytree(ROOT / "src" / "willow_cart", source / "willow_cart")
    columns = source / "willow_cart" / "cart" / "columns.py"
    definition = (
        '    Column("title", "what the page says besides", lambda offer: cover(offer.title), str,'
        ' "title"),\n)\n"""The columns in order.'
    )
    columns.write_text(columns.read_text().replace(')\n"""The columns in order.', definition))
    made = program(tmp_path, "", "load", "page.html", "--base", "http://h/", "--cart", "cart.csv",
                   source=source)  # fmt: skip
    assert made.returncode == 0, made.stderr
    assert (tmp_path / "cart.csv").read_text().splitlines()[0].endswith(",url,title")
    assert (tmp_path / "cart.csv").read_text().splitlines()[1].endswith(",Reed counts")
    passed_on = program(tmp_path, "", "load", "cart.csv", "--cart", "cart.jsonl", source=source)
    assert passed_on.returncode == 0, passed_on.stderr
    assert json.loads((tmp_path / "cart.jsonl").read_text())["title"] == "Reed counts"
    frame = (
        "import willow_cart as wc\nprint(wc.Cart.load('cart.jsonl').to_frame()['title'].tolist())\n"
        "from docs.make_columns import render\n"
        "print(render('<!-- columns: -->\\n<!-- end of columns -->'))\nraise SystemExit"
    )
    shown = program(tmp_path, frame, source=source)
    assert "['Reed counts']" in shown.stdout, shown.stderr
    assert "| `title` | what the page says besides |" in shown.stdout


def test_a_format_of_combined_tables_is_a_class_with_its_ending(tmp_path: Path) -> None:
    assert files_named_for("format of `combine`") == ["tables/outputs.py"]
    (tmp_path / "a.csv").write_text("level\n1\n2\n")
    added = (
        "from willow_cart.tables import outputs\n"
        "class Tabbed(outputs.Output):\n"
        "    def begin(self, columns, files):\n"
        "        self.file = open(self.path, 'w')\n"
        "        print(*columns, sep='\\t', file=self.file)\n"
        "        return columns\n"
        "    def write(self, columns):\n"
        "        for row in zip(*columns): print(*row, sep='\\t', file=self.file, flush=True)\n"
        "outputs.FORMATS['.tab'] = Tabbed\n"
    )
    done = program(tmp_path, added, "combine", "a.csv", "--to", "all.tab")
    assert done.returncode == 0, done.stderr
    assert (tmp_path / "all.tab").read_text() == "source_file\tlevel\na.csv\t1\na.csv\t2\n"
    assert ".tab" in program(tmp_path, added, "combine", "--help").stdout
    assert ".jsonl or .tab" in program(tmp_path, added, "combine", "a.csv", "--to", "x.doc").stderr


class LongerPace(PaceOptions):
    """The pace options with one more."""

    reeds: int = option(2, positive, "how many reeds to count (%(default)s)", metavar="N")


class LongerRequest(HaulRequest):
    """What `haul` would be asked for with it."""

    pace: LongerPace = LongerPace()


def test_an_option_is_a_field(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    assert files_named_for("option") == ["options/groups.py"]
    kinds = {name: command.request for name, command in COMMANDS.items()}
    kinds["haul"] = LongerRequest
    monkeypatch.setattr(Command, "request", property(lambda self: kinds[self.name]))
    words = ["haul", "x", "--into", "y", "--reeds", "3"]
    typed = LongerRequest.read(given_by(make_parser(["haul"]).parse_args(words), COMMANDS["haul"]))
    assert make_policy(typed).pace == LongerPace(reeds=3)
    write_errand(tmp_path / "job.toml", typed)
    assert "reeds = " in (tmp_path / "job.toml").read_text()
    monkeypatch.setattr(errand_job, "HaulRequest", LongerRequest)
    values = Values({}, now=datetime.now(UTC), environment={})
    job = make_job(read_document(tmp_path / "job.toml"), values)
    assert isinstance(job.haul, LongerRequest)
    assert job.haul.pace.reeds == 3
    assert "`--reeds N`" in docs_module("make_reference").render()
    assert '"reeds": {' in docs_module("make_schema").render()
    assert "reeds: int" in docs_module("make_keywords").render()
    complete(CompletionRequest(shell="bash"))
    assert "--reeds" in capsys.readouterr().out


def test_a_command_is_a_line_a_request_a_job_and_what_is_printed() -> None:
    named = files_named_for("command")
    assert named == ["commands/table.py", "commands/NAME.py", "cli/commands/NAME.py"]
    source = ROOT / "src" / "willow_cart"
    for name, command in COMMANDS.items():
        assert command.request.command == name
        assert (source / "cli" / "commands" / f"{name}.py").is_file()


@pytest.mark.parametrize("wrapper", [KeptAnswers, ProtocolRouter])
def test_an_access_around_others_passes_on_every_request(wrapper: type[Access]) -> None:
    """What `Access` does by itself would be done in place of theirs."""
    requests = {name for name, value in vars(Access).items() if callable(value)}
    own = {"__init__", "__enter__", "__exit__"}
    assert {each for each in requests if not each.startswith("__")} - own <= {*vars(wrapper)}


def test_an_option_takes_effect_in_a_transfer_by_its_definition_and_its_use(tmp_path: Path) -> None:
    (tmp_path / "reeds.csv").write_text("1")
    defined = (
        "from willow_cart.commands import haul\n"
        "from willow_cart.options import groups, option, readers\n"
        "class LongerPace(groups.PaceOptions):\n"
        "    reeds: int = option.option(2, readers.positive, 'how many reeds', metavar='N')\n"
        "class HaulRequest(haul.HaulRequest):\n"
        "    pace: LongerPace = LongerPace()\n"
        "haul.HaulRequest = HaulRequest\n"
    )
    used = (
        "from willow_cart.transfer import downloader\n"
        "before = downloader.require_size\n"
        "def require_size(pace, thing, size):\n"
        "    print(pace.reeds, 'reeds')\n"
        "    before(pace, thing, size)\n"
        "downloader.require_size = require_size\n"
    )
    words = ["haul", (tmp_path / "reeds.csv").as_uri(), "--into", "d", "--reeds", "3"]
    hauled = program(tmp_path, defined + used, *words)
    assert hauled.returncode == 0, hauled.stderr
    assert "3 reeds" in hauled.stdout


def test_an_event_is_a_class_and_its_message(tmp_path: Path) -> None:
    assert files_named_for("event") == ["events.py", "views/words.py"]
    (tmp_path / "reeds.csv").write_text("1")
    added = (
        "from willow_cart import events\n"
        "from willow_cart.hauling import run\n"
        "from willow_cart.views import words\n"
        "class ReedsCounted(events.HaulEvent):\n"
        "    reeds: int\n"
        "@words.lines_of.register\n"
        "def _of_reeds(event: ReedsCounted):\n"
        "    yield f'{event.reeds} reeds'\n"
        "before = run._enter_what_is_here\n"
        "def enter(results, plan, ledger, account, observer):\n"
        "    observer.note(ReedsCounted(7))\n"
        "    return before(results, plan, ledger, account, observer)\n"
        "run._enter_what_is_here = enter\n"
    )
    words = ["haul", (tmp_path / "reeds.csv").as_uri(), "--into", "d", "--log", "log"]
    hauled = program(tmp_path, added, *words)
    assert "willow-cart: 7 reeds" in hauled.stderr
    assert '"event": "reeds_counted", "reeds": 7}' in (tmp_path / "log").read_text()
