"""The command line, built from the operations' signatures."""

from __future__ import annotations

import io
import os
import sys
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import click

from . import VERSION
from .apply_command import apply_command
from .core.errors import Cancelled, Partly, Trouble
from .core.kernel import not_kept
from .core.operation import OPERATIONS, STAGES, Operation, operation_called
from .core.progress import Progress
from .core.registry import FAILED
from .core.sentence import first_sentence
from .demo.commands import add_demo_commands
from .operation_command import WIDTH, command_for

FOUND = 12
"""Lines that are told of what is found."""


def main() -> None:
    """Run the command line. Troubles are said in one sentence; the exit code is then 1."""
    for stream in (sys.stdout, sys.stderr):  # names of files may be no text
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    warnings.simplefilter("ignore")  # libraries warn of files that break small rules; what matters is said by us
    try:
        with _plugins_told():
            program.main(prog_name="kestrelmist")
    except Trouble as trouble:
        print(trouble, file=sys.stderr)
        raise SystemExit(1) from None
    except (KeyboardInterrupt, Cancelled):
        print("Stopped; nothing was kept of this step.", file=sys.stderr)
        raise SystemExit(130) from None
    except BrokenPipeError:  # whoever read the output has gone
        raise SystemExit(0) from None
    except Exception as error:
        print(_unexpected(error), file=sys.stderr)
        raise SystemExit(1) from None


@contextmanager
def _plugins_told() -> Iterator[None]:
    """Say at the end which plug-ins were left out, whatever else there is to say."""
    try:
        yield
    finally:
        for sentence in FAILED:
            print(sentence, file=sys.stderr)


def _unexpected(error: Exception) -> str:
    """A sentence for what nobody has put into one."""
    if isinstance(error, MemoryError):
        return "There is not enough memory: close other programs, or work on a part."
    if isinstance(error, OSError):
        from .core.safe_write import write_trouble

        return str(write_trouble(error, error.filename or "."))
    trace = os.environ.get("KESTRELMIST_TRACE")
    if trace:
        import traceback

        traceback.print_exception(error)
    what = f"This failed in a way that was not foreseen ({type(error).__name__}: {str(error)[:300]})"
    return what + ("." if trace else ": say so to whoever gave you the program; KESTRELMIST_TRACE=1 shows where.")


class Group(click.Group):
    """Commands that are made when they are wanted, listed by the stages of the Path."""

    def list_commands(self, ctx) -> list[str]:
        return [o.name for o in OPERATIONS] + super().list_commands(ctx)

    def get_command(self, ctx, cmd_name: str):
        own = super().get_command(ctx, cmd_name)
        if own is not None:
            return own
        operation = operation_called(cmd_name)
        return None if operation is None else command_of(operation)

    def format_commands(self, ctx, formatter) -> None:
        for stage in STAGES:
            rows = [(o.name, first_sentence(o.summary)) for o in OPERATIONS if o.stage == stage]
            if rows:
                with formatter.section(stage.capitalize()):
                    formatter.write_dl(rows, col_max=24)
        rows = [(name, c.get_short_help_str(80)) for name, c in sorted(self.commands.items())]
        if rows:
            with formatter.section("Program"):
                formatter.write_dl(rows, col_max=24)


def command_of(operation: Operation) -> click.Command:
    """The command of an operation."""
    return command_for(operation, _run)


def _run(operation: Operation, given: dict[str, Any]) -> None:
    study, out, as_json, dry = given.pop("study"), given.pop("out"), given.pop("json"), given.pop("dry_run")
    beside = {k.removeprefix("beside_"): v for k, v in given.items() if k.startswith("beside_") and v is not None}
    given = {k: v for k, v in given.items() if v is not None and v != () and not k.startswith("beside_")}
    given = {k: list(v) if isinstance(v, tuple) else v for k, v in given.items()}
    target = next((p for p in operation.parameters if p.role == "new" and p.required), None)
    if target is not None and target.name not in given and out is not None:
        given[target.name], out = str(out), None  # what writes a file itself writes that one
    from .command_files import on_files
    from .command_output import say, say_trouble
    from .patience import Patience
    from .result_files import require_apart, require_place, write_beside, write_result

    try:
        if dry:
            return _would_use(operation, given, study, as_json)
        require_place(operation, study, out, beside)
        require_apart(given.values(), [*beside.values(), *([out] if out is not None else [])])
        with _Bar(as_json) as progress, Patience():
            if study:
                said = _in_study(operation, given, study, progress)
            else:
                said = on_files(operation, given, progress)
            written = write_result(operation, said, out, progress) if out is not None else []
            written += write_beside(said, beside, progress)
        say(operation, said, written, as_json)
        if said.not_done is not None:
            print(said.not_done, file=sys.stderr)
            raise SystemExit(1)
        if not_kept():
            print(f"{not_kept()}.", file=sys.stderr)
    except Trouble as trouble:
        say_trouble(trouble, as_json)
        raise
    except KeyboardInterrupt:  # click would say it in its own words, with another exit code
        raise Cancelled() from None


def _would_use(operation: Operation, given: dict[str, Any], folder: Path | None, as_json: bool) -> None:
    """Print what a command would use, and from where; nothing is done or kept."""
    import json
    from contextlib import nullcontext

    from .command_output import print_table
    from .study.inputs import settle
    from .study.study import Study
    from .study.used import used, used_table

    asks = folder is not None and bool(operation.inputs)  # a study that is still to be made tells nothing
    with Study(folder, read_only=True) if folder is not None and asks else nullcontext() as study:
        table = used_table(operation.title, used(study, settle(study, operation.name, given)))
    if as_json:
        print(json.dumps({"operation": operation.name, "would use": table.as_records()}))
    else:
        print_table(table)


def _in_study(operation: Operation, given: dict, folder: Path, progress: Progress):
    from .command_output import Said
    from .study.inputs import settle
    from .study.keeping import keep
    from .study.study import Study
    from .study.task import compute

    with Study(folder, create=operation.name == "gather") as study:
        task = settle(study, operation.name, given)
        try:
            made = compute(study, task, progress.part(0.0, 0.9), prepare=not study.read_only)
            said = Said.of_study(study, task, made.values, keep(study, task, made))
        except Partly as partly:
            said = Said.of_study(study, task, partly.done, partly.done)
            said.not_done = partly
        for notice in study.notices:
            print(f"{notice}.", file=sys.stderr)
        return said


class _Bar:
    """A bar on the terminal, or nothing when the output is for a machine."""

    def __init__(self, quiet: bool):
        self.quiet = quiet or not sys.stderr.isatty()

    def __enter__(self) -> Progress:
        if self.quiet:
            return Progress()
        from rich.console import Console
        from rich.progress import Progress as Bar

        self.bar = Bar(console=Console(stderr=True), transient=True)
        self.bar.start()
        task = self.bar.add_task("", total=1.0)
        return Progress(lambda f, what: self.bar.update(task, completed=f, description=what))

    def __exit__(self, *_) -> None:
        if not self.quiet:
            self.bar.stop()


@click.group(
    cls=Group,
    help="Kestrelmist: from scans and micrographs to numbers for a study.",
    context_settings={"max_content_width": WIDTH, "help_option_names": ["-h", "--help"]},
)
def program() -> None:
    pass


@program.command("desk")
@click.argument("places", nargs=-1, type=click.Path(path_type=Path))
@click.option("--picture", type=click.Path(path_type=Path), help="Save the settled window as PNG and leave.")
@click.option("--demo", is_flag=True, help="Open the made-up study.")
def _desk(places: tuple[Path, ...], picture: Path | None, demo: bool) -> None:
    """Open the window on a study, files or folders."""
    from .desk.app import start

    raise SystemExit(start(list(places), picture, demo))


add_demo_commands(program, _Bar)
program.add_command(apply_command(_run))


@program.command("install")
@click.option("--remove", "take_away", is_flag=True, help="Take them away again.")
@click.option("--command", default="", help="What the starter runs; this program when left out.")
def _install(take_away: bool, command: str) -> None:
    """Put starter, icon and kinds of files on this user's desktop, or take them away."""
    import shlex

    from . import desktop

    if take_away:
        gone = desktop.remove()
        print("\n".join(f"Removed {path}" for path in gone) or "There was nothing to remove.")
        return
    for path in desktop.install(shlex.split(command) or [sys.executable, "-m", "kestrelmist.cli", "desk"]):
        print(f"Put in place {path}")


@program.command("find")
@click.argument("words", nargs=-1, required=True)
def _find(words: tuple[str, ...]) -> None:
    """Find tools and settings by the words of the trade, as the Finder of the window does."""
    from .core.finding import Finding
    from .desk.shell.lines import fixed_lines

    lines = Finding([(line, line) for line, _ in fixed_lines()]).found(" ".join(words))
    if not lines:
        raise Trouble(f"Nothing is found for “{' '.join(words)}”", "try another word for it")
    for line in lines[:FOUND]:
        print(f"{line.name} ({line.kind}): {line.says}")


@program.command("version")
def _version() -> None:
    """Print the version."""
    print(VERSION)


if __name__ == "__main__":
    main()
