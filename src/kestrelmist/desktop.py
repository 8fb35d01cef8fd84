"""The program on a person's desktop: starter, icon and kinds of files, put where the XDG standards want them for this
user, and taken away again.

Desktop Entry Specification 1.5, Icon Theme Specification 0.13, Shared MIME-info Specification 0.22, all of
freedesktop.org.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from importlib import resources
from pathlib import Path
from xml.sax.saxutils import escape, quoteattr

from .core.errors import Trouble
from .core.safe_write import written_whole

NAME = "kestrelmist"
SCAN = "application/x-research-scan"
"""The kind of file that stands for all formats no standard list of kinds has a name for."""
SURE = (".nii", ".nii.gz", ".nrrd", ".nhdr", ".mha", ".mhd", ".mgh", ".mgz", ".mnc", ".x3p")
"""Endings that say what a file is, and that no standard list knows; of others a name says too little."""
STUDY = "application/x-kestrelmist-study"
"""A study, by its catalogue."""


def data_home() -> Path:
    """Where a user's programs keep what others look for."""
    named = os.environ.get("XDG_DATA_HOME", "")
    return Path(named) if Path(named).is_absolute() else Path.home() / ".local" / "share"


def files() -> dict[str, Path]:
    """What is put there: the starter, the icon, and the kinds of files."""
    home = data_home()
    return {
        "starter": home / "applications" / f"{NAME}.desktop",
        "icon": home / "icons" / "hicolor" / "scalable" / "apps" / f"{NAME}.svg",
        "kinds": home / "mime" / "packages" / f"{NAME}.xml",
    }


def install(command: list[str]) -> list[Path]:
    """Put starter, icon and kinds of files in place; returns their paths.

    Parameters
    ----------
    command : list of str
        What the starter runs; files are handed over behind it.

    Raises
    ------
    Trouble
        When the place cannot be written.
    """
    theme = resources.files(__package__) / "desk" / "theme"
    starter = re.sub(r"(?m)^Exec=.*$", lambda _: f"Exec={exec_line(command)}", (theme / f"{NAME}.desktop").read_text())
    texts = {"starter": starter, "icon": (theme / "mark.svg").read_text(), "kinds": kinds_of_files()}
    placed = files()
    for what, path in placed.items():
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise Trouble("This place cannot be written to", "check the permissions", path.parent) from error
        with written_whole(path) as stream:
            stream.write(texts[what].encode())
    _look_again()
    return list(placed.values())


def remove() -> list[Path]:
    """Take away what `install` has put there; returns the paths that are gone."""
    gone = [path for path in files().values() if path.exists()]
    for path in gone:
        path.unlink()
    if gone:
        _look_again()
    return gone


def exec_line(command: list[str]) -> str:
    """The line of a starter that runs a command with files, quoted as the standard wants it."""
    return " ".join([*map(_quoted, command), "%F"])


def _quoted(word: str) -> str:
    plain = word.replace("%", "%%")
    if re.fullmatch(r"[\w./:@+=,%-]+", plain):
        return plain
    inner = re.sub(r'(["`$\\])', r"\\\1", plain)
    return f'"{inner}"'.replace("\\", "\\\\")


def kinds_of_files() -> str:
    """Shared MIME-info that gives endings that are surely those of scans one kind, and the catalogues of studies
    another."""
    from .formats.format import formats_holding

    endings = {e for f in formats_holding("image") if f.read and not f.folder for e in f.endings}
    globs = "".join(
        f"    <glob pattern={quoteattr('*' + escape(ending))}/>\n" for ending in sorted(endings.intersection(SURE))
    )
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        '<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">\n'
        f'  <mime-type type="{SCAN}">\n    <comment>Research scan</comment>\n'
        f'    <generic-icon name="image-x-generic"/>\n{globs}  </mime-type>\n'
        f'  <mime-type type="{STUDY}">\n    <comment>Study of scans</comment>\n'
        '    <sub-class-of type="application/vnd.sqlite3"/>\n    <glob pattern="study.db"/>\n'
        "  </mime-type>\n</mime-info>\n"
    )


def _look_again() -> None:
    """Have the desktop notice, where it has the programs for that; others look by themselves."""
    home = data_home()
    for words in (
        ["update-desktop-database", home / "applications"],
        ["update-mime-database", home / "mime"],
        ["gtk-update-icon-cache", "-q", "-t", "-f", home / "icons" / "hicolor"],
    ):
        if shutil.which(str(words[0])):
            subprocess.run([*map(str, words)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
