"""The command line, as tests run it."""

import contextlib
import io
import subprocess
import sys
import warnings
from unittest import mock

from kestrelmist import cli


def kestrelmist(*words, code: int = 0, own_process: bool = False, **kwargs) -> subprocess.CompletedProcess:
    """Run the command line program, in this process unless it is to have one of its own, or an environment."""
    given = list(map(str, words))
    if own_process or kwargs:
        command = [sys.executable, "-m", "kestrelmist.cli", *given]
        ran = subprocess.run(command, capture_output=True, text=True, **kwargs)
    else:
        ran = _here(given)
    if ran.returncode != code:
        raise AssertionError(f"{words} ended with {ran.returncode}: {ran.stdout}{ran.stderr}")
    return ran


def _here(words: list[str]) -> subprocess.CompletedProcess:
    out, err = io.StringIO(), io.StringIO()
    ended = 0
    with contextlib.ExitStack() as around:
        around.enter_context(warnings.catch_warnings())
        around.enter_context(mock.patch.object(sys, "argv", ["kestrelmist", *words]))
        around.enter_context(contextlib.redirect_stdout(out))
        around.enter_context(contextlib.redirect_stderr(err))
        try:
            cli.main()
        except SystemExit as exit:
            ended = exit.code if isinstance(exit.code, int) else 0 if exit.code is None else 1
    return subprocess.CompletedProcess(words, ended, out.getvalue(), err.getvalue())
