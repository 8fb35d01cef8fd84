"""Along the axes of a series."""

from __future__ import annotations

from ..command import command


@command("volume-after", "The next volume of a series", "Time", ".", more="time frame", pane=True, order=10)
def after(part) -> None:
    if part.viewing.place:
        part.viewing.go_along(0, part.viewing.place[0] + 1)


@command("volume-before", "The volume before", "Time", ",", more="time frame", pane=True, order=11)
def before(part) -> None:
    if part.viewing.place:
        part.viewing.go_along(0, part.viewing.place[0] - 1)


@command(
    "film",
    "Play the series, or stop",
    "Time",
    "P",
    more="film movie cine time play animation loop time lapse",
    pane=True,
    order=12,
)
def film(part) -> None:
    part.desk.film.toggle()


@command(
    "courses",
    "Courses",
    "Time",
    "Ctrl+J",
    more="time course curve plot drawer time course time series voxel plot",
    order=13,
)
def courses(window) -> None:
    window.toggle_drawer("courses")


@command("hold-course", "Hold the course at the crosshair", "Time", "K", more="time curve keep", pane=True, order=14)
def hold_course(part) -> None:
    part.desk.courses.hold()
