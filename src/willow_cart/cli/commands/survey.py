"""`survey`: list what is offered and chosen."""

from __future__ import annotations

from willow_cart.cli import render
from willow_cart.cli.console import Console
from willow_cart.cli.render import AsFolders
from willow_cart.commands.survey import SurveyRequest, survey
from willow_cart.errors import BadOption


def run(request: SurveyRequest) -> int:
    """List the sources, choose, and print the result."""
    return survey(request, Console(), _make_showing(request).show).exit_code


def _make_showing(request: SurveyRequest) -> render.Showing:
    if request.levels is not None and not request.folders:
        raise BadOption("--levels", "goes only with --folders", "add --folders")
    if request.folders:
        if request.why or request.tree:
            other = "--why" if request.why else "--tree"
            raise BadOption(other, "does not go with --folders", "leave out one of them")
        form = "json" if request.json else "csv" if request.csv else ""
        return AsFolders(request.levels, form)
    if request.json:
        return render.AsJson(why=request.why)
    if request.csv:
        return render.AsCart(why=request.why)
    if request.tree:
        if request.why:
            raise BadOption("--why", "does not go with --tree", "leave out one of them")
        return render.AsTree()
    return render.AsTable(why=request.why, brief=request.brief)
