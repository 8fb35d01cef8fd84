"""The window itself."""

from __future__ import annotations

from ..command import command
from ..models.desk_model import STAGES


@command("finder", "Find a tool, an image or a setting", "Window", "Ctrl+K", order=1)
def finder(window) -> None:
    window.finder.open()


@command(
    "sheet",
    "All keys and gestures",
    "Window",
    "F1",
    more="help shortcuts mouse sheet keyboard hotkeys manual about",
    order=2,
)
def sheet(window) -> None:
    window.sheet.open()


@command("undo", "Undo", "Window", "Ctrl+Z", order=3, more="revert back")
def undo(window) -> None:
    window.desk.undoing.undo()


@command("redo", "Redo", "Window", "Ctrl+Shift+Z", "Ctrl+Y", order=4, more="again")
def redo(window) -> None:
    window.desk.undoing.redo()


@command(
    "logbook", "Open the logbook", "Window", "Ctrl+L", more="history steps recipe yaml drawer provenance log", order=5
)
def logbook(window) -> None:
    window.toggle_drawer("logbook")


@command(
    "subjects-table", "Table of subjects", "Window", more="participants age sex group visits sessions drawer", order=13
)
def subjects_table(window) -> None:
    window.toggle_drawer("subjects")


@command("tables", "Tables", "Window", "Ctrl+T", more="results csv drawer results measurements", order=6)
def tables(window) -> None:
    window.toggle_drawer("tables")


@command(
    "recipes",
    "Recipes: set up, check, run on all",
    "Window",
    "Ctrl+R",
    more="recipe cohort batch pipeline workflow subjects run all",
    order=6,
)
def recipes(window) -> None:
    window.viewing.set_stage("Report")
    model = window.desk.recipes
    model.open(model.name or model.names()[0])


@command("mist", "Theme mist", "Window", more="light colours light mode", order=7)
def mist(window) -> None:
    window.set_theme("mist")


@command("dusk", "Theme dusk", "Window", more="dark colours night dark mode", order=8)
def dusk(window) -> None:
    window.set_theme("dusk")


@command("other-study", "Open another study…", "Window", more="folder open project database", order=9)
def other_study(window) -> None:
    window.ask_and_open()


def _stage(stage: str):
    return lambda window: window.viewing.set_stage(stage)


for n, stage in enumerate(STAGES, 1):
    command(f"stage-{stage.lower()}", f"Go to {stage}", "Window", f"Alt+{n}", more="stage", order=20 + n)(_stage(stage))
