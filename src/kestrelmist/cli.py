"""The command line, built from the operations' signatures."""

from __future__ import annotations

import inspect
import json
import sys
import warnings
from pathlib import Path
from typing import Annotated, Any, Optional

import typer
from rich.console import Console
from rich.table import Table as RichTable

from . import VERSION
from .core.errors import Cancelled, Trouble
from .core.image import Image
from .core.labels import LabelMap
from .core.operation import Operation, Parameter
from .core.patch import LabelEdit
from .core.progress import Progress
from .core.safe_write import written_whole
from .core.table import Table
from .formats.nifti import read_label_map, write_label_map
from .formats.saving import save_image
from .formats.opening import open_image
from .operations import all_operations

app = typer.Typer(help="Kestrelmist: from scans and micrographs to numbers for a study.", no_args_is_help=True,
                  add_completion=False, pretty_exceptions_enable=False)
_groups: dict[str, typer.Typer] = {}


def main() -> None:
    """Run the command line. Troubles are said in one sentence; the exit code is then 1."""
    warnings.simplefilter("ignore")  # libraries warn of files that break small rules; what matters of it is said in our own words
    for operation in all_operations().values():
        _add(operation)
    try:
        app(standalone_mode=True)
    except Trouble as trouble:
        _say(trouble)
    except (KeyboardInterrupt, Cancelled):
        print("Stopped; nothing was kept of this step.", file=sys.stderr)
        raise SystemExit(130) from None


def _say(trouble: Trouble) -> None:
    print(trouble, file=sys.stderr)
    raise SystemExit(1)


def _add(operation: Operation) -> None:
    """One command. Its first input or folder is an argument; everything else is an option."""

    def command(**given):
        _run(operation, given)

    first = next((p for p in operation.parameters if p.is_input or p.role == "folder"), None)
    command.__signature__ = inspect.Signature([*(_option(p, p is first) for p in operation.parameters), *_common(operation)])
    command.__doc__ = operation.summary
    place, name = app, operation.name
    if " " in name:
        group, name = name.split(" ", 1)
        if group not in _groups:
            _groups[group] = typer.Typer(help=f"{group.capitalize()} …", no_args_is_help=True)
            app.add_typer(_groups[group], name=group)
        place = _groups[group]
    place.command(name, help=operation.summary)(command)


def _option(p: Parameter, first: bool) -> inspect.Parameter:
    unit = f" [{p.unit}]" if p.unit and p.unit != "value" else " [value of the image]" if p.unit else ""
    choices = f" One of {', '.join(map(str, p.choices))}." if p.choices else ""
    text = (p.help or p.words).rstrip(".") + "." + unit + choices
    flag = "--" + p.name.replace("_", "-")
    if p.is_input:
        what = "A file or folder, or with --study the name of an image in it." if p.kind is Image else "A label map file."
        if first:
            return _typed(p.name, Annotated[Optional[str], typer.Argument(help=what, show_default=False)], None)
        return _typed(p.name, Annotated[Optional[str], typer.Option(flag, help=what, show_default=False)], None)
    if first:
        return _typed(p.name, Annotated[str, typer.Argument(help=text)], inspect.Parameter.empty)
    if p.kind is bool:
        return _typed(p.name, Annotated[bool, typer.Option(f"{flag}/--no-{p.name}", help=text)], p.default)
    default = None if p.required or p.default is None else _as_text(p.default)
    return _typed(p.name, Annotated[Optional[str], typer.Option(flag, help=text, show_default=default or False)], None)


def _typed(name, annotation, default) -> inspect.Parameter:
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, annotation=annotation, default=default)


def _as_text(value) -> str:
    return ",".join(f"{v:g}" for v in value) if isinstance(value, tuple) else str(value)


def _common(operation: Operation) -> list[inspect.Parameter]:
    study = Annotated[Optional[Path], typer.Option("--study", help="Study folder to work in and keep the result in.")]
    out = Annotated[Optional[Path], typer.Option("--out", help="File to write the result to: .csv for tables; .nii.gz, .nrrd, .mha, .ome.tif, .ome.zarr … for images; .nii.gz for labels.")]
    frame = Annotated[Optional[str], typer.Option("--frame", help="One volume of a series: its place along each axis, counted from 1 (3, or 3,1).")]
    as_json = Annotated[bool, typer.Option("--json", help="Print the result as JSON.")]
    series = Annotated[Optional[str], typer.Option("--series", help="Name or identifier of the series to take when a folder holds several.")]
    picks = [_typed("frame", frame, None), _typed("series_name", series, None)] if any(p.kind is Image for p in operation.inputs) else []
    return [*picks, _typed("study", study, None), _typed("out", out, None), _typed("json", as_json, False)]


def _run(operation: Operation, given: dict[str, Any]) -> None:
    study, out, as_json = given.pop("study"), given.pop("out"), given.pop("json")
    try:
        given = {k: v for k, v in given.items() if v is not None}
        with _progress(as_json) as progress:
            if study is not None:
                result, kept = _in_study(operation, given, study, progress)
            else:
                result, kept = _on_files(operation, given, out, progress), None
        if isinstance(result, Table) and out is not None:
            result.save_csv(out)
        _print(operation, result, kept, as_json, out)
    except Trouble as trouble:
        if as_json:
            print(json.dumps({"trouble": str(trouble)}), file=sys.stdout)
        _say(trouble)


def _in_study(operation: Operation, given: dict, folder: Path, progress: Progress):
    from .study.run import keep, settle
    from .study.study import Study

    given.pop("series_name", None)
    with Study(folder, create=operation.name == "gather") as study:
        call = settle(study, operation.name, given)
        result = call.compute(progress.part(0.0, 0.8))
        kept = keep(study, call, result, progress.part(0.8, 1.0))
        if isinstance(kept, list):
            kept = [study.find(k) for k in kept]
        if isinstance(result, LabelEdit):
            kept = call.arguments["labels"]
        return result, kept


def _on_files(operation: Operation, given: dict, out: Path | None, progress: Progress):
    """Inputs and result are plain files."""
    from .study.run import picked

    arguments: dict[str, Any] = {}
    frame, series = given.pop("frame", None), given.pop("series_name", None)
    for p in operation.inputs:
        name = given.pop(p.name, None)
        if p.kind is Image:
            if name is None:
                raise Trouble(f"“{operation.title}” needs an image", "name a file, or an image with --study")
            arguments[p.name] = open_image(name, progress.part(0.0, 0.1), series=series)
            if frame is not None:
                arguments[p.name] = picked(arguments[p.name], frame)
        elif name is not None and Path(name).exists():
            arguments[p.name] = read_label_map(name)
        elif "image" in arguments and operation.returns in (LabelEdit, Image):
            arguments[p.name] = LabelMap(arguments["image"].space)
        else:
            raise Trouble(f"“{operation.title}” needs a label map", "name a file with --labels, or work in a study with --study")
    result = operation(progress.part(0.1, 1.0), **arguments, **operation.checked(given))
    if isinstance(result, LabelEdit):
        labels = arguments["labels"]
        result.apply(labels)
        write_label_map(_needed(out, operation), labels)
        return labels
    if isinstance(result, Image):
        save_image(_needed(out, operation), result, progress.part(0.9, 1.0))
    elif isinstance(result, list):
        raise Trouble(f"“{operation.title}” needs a study to put the images in", "name one with --study; it is made when there is none")
    return result


def _needed(out: Path | None, operation: Operation) -> Path:
    if out is None:
        raise Trouble(f"“{operation.title}” needs a place for its result", "name a file with --out, or work in a study with --study")
    return out


class _progress:
    """A bar on the terminal, or nothing when the output is for a machine."""

    def __init__(self, quiet: bool):
        self.quiet = quiet or not sys.stderr.isatty()

    def __enter__(self) -> Progress:
        if self.quiet:
            return Progress()
        from rich.progress import Progress as Bar

        self.bar = Bar(console=Console(stderr=True), transient=True)
        self.bar.start()
        task = self.bar.add_task("", total=1.0)
        return Progress(lambda f, what: self.bar.update(task, completed=f, description=what))

    def __exit__(self, *_) -> None:
        if not self.quiet:
            self.bar.stop()


def _print(operation: Operation, result, kept, as_json: bool, out) -> None:
    if as_json:
        print(json.dumps(_plain(operation, result, kept, out), default=str, allow_nan=False))
    elif isinstance(result, Table):
        shown = RichTable(title=result.title)
        for c in result.shown_columns:
            shown.add_column(result.columns[c].heading, overflow="fold")
        for n in range(len(result.rows)):
            shown.add_row(*(result.shown(n, c) for c in result.shown_columns))
        Console().print(shown)
    elif isinstance(kept, list):
        for record in kept:
            print(f"{record.subject}/{record.name}: {record.short_facts}")
    else:
        labels = kept if isinstance(kept, LabelMap) else result if isinstance(result, LabelMap) else None
        for row in labels.table if labels else ():
            volume = labels.counts[row.number] * labels.space.voxel_volume
            print(f"{row.number} {row.name}: {labels.counts[row.number]} voxels, {volume:.3f} mm³")
        if out:
            print(f"Written: {out}")


def _plain(operation: Operation, result, kept, out) -> dict:
    said: dict[str, Any] = {"operation": operation.name}
    if isinstance(result, Table):
        said["rows"] = [{k: None if isinstance(v, float) and v != v else v for k, v in r.items()} for r in result.as_records()]
    labels = kept if isinstance(kept, LabelMap) else result if isinstance(result, LabelMap) else None
    if labels is not None:
        said["labels"] = [{"number": r.number, "name": r.name, "voxels": int(labels.counts[r.number]),
                           "volume": float(labels.counts[r.number] * labels.space.voxel_volume), "volume_unit": "mm3"}
                          for r in labels.table]
    elif isinstance(kept, list):
        said["images"] = [{"id": r.id, "subject": r.subject, "name": r.name, "shape": list(r.space.shape),
                           "spacing": list(r.space.spacing), "spacing_unit": r.space.unit} for r in kept]
    if out is not None:
        said["file"] = str(out)
    return said


@app.command("recipe", help="Do the steps of a recipe (YAML, as the logbook gives it) again on an image of a study.")
def _recipe(file: Annotated[Path, typer.Argument(help="The recipe.")], study: Annotated[Path, typer.Option(help="Study folder.")],
            image: Annotated[Optional[str], typer.Option(help="Image to run it on; the ones it names when left out.")] = None):
    from .study.recipe import read_recipe, run_recipe
    from .study.study import Study

    try:
        steps = read_recipe(file)
        with Study(study) as opened:
            run_recipe(opened, steps, image)
    except Trouble as trouble:
        _say(trouble)
    print(f"{len(steps)} steps done")


@app.command("logbook", help="Print the logbook of a study as a recipe.")
def _logbook(study: Annotated[Path, typer.Argument(help="Study folder.")],
             out: Annotated[Optional[Path], typer.Option(help="File to write it to.")] = None):
    from .study.logbook import as_yaml
    from .study.study import Study

    try:
        with Study(study) as opened:
            text = as_yaml(opened.logbook.entries())
        if out:
            with written_whole(out) as stream:
                stream.write(text.encode())
    except Trouble as trouble:
        _say(trouble)
    if not out:
        print(text, end="")


@app.command("delete", help="Delete an image of a study with its labels and the study's copy of its files, for good.")
def _delete(image: Annotated[str, typer.Argument(help="Image to delete.")], study: Annotated[Path, typer.Option(help="Study folder.")],
            name: Annotated[str, typer.Option(help="Its name once more, typed as it is, to be sure.")]):
    from .study.study import Study

    try:
        with Study(study) as opened:
            opened.delete_image(image, name)
    except Trouble as trouble:
        _say(trouble)
    print(f"Deleted: {name}")


@app.command("convert-study", help="Convert all images of a study to NIfTI with sidecars, in a BIDS-style folder.")
def _convert_study(study: Annotated[Path, typer.Argument(help="Study folder.")], to: Annotated[Path, typer.Option(help="The new folder.")],
                   session: Annotated[str, typer.Option(help="Session label for all images.")] = "", as_json: Annotated[bool, typer.Option("--json")] = False):
    from .study.convert_study import convert_study
    from .study.study import Study

    try:
        with Study(study) as opened, _progress(as_json) as progress:
            table = convert_study(opened, to, session, progress)
    except Trouble as trouble:
        _say(trouble)
    print(json.dumps(table.as_records()) if as_json else table.to_csv(), end="")


@app.command("desk", help="Open the window on a study, files or folders.")
def _desk(places: Annotated[Optional[list[Path]], typer.Argument()] = None,
          picture: Annotated[Optional[Path], typer.Option(help="Save the settled window as PNG and leave.")] = None,
          demo: Annotated[bool, typer.Option("--demo", help="Open the made-up study.")] = False):
    from .desk.app import start

    try:
        raise SystemExit(start(places or [], picture, demo))
    except Trouble as trouble:
        _say(trouble)


@app.command("version", help="Print the version.")
def _version():
    print(VERSION)


if __name__ == "__main__":
    main()
