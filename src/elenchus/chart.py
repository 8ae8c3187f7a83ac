"""Groups drawn as bars: dates along time with gaps where nothing is, all else as a list of bars."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.errors import OptionError, Problem, QuestionError, Span
from elenchus.files import replacing, written_or_told
from elenchus.pieces.piece import printable
from elenchus.values.wording import measured

if TYPE_CHECKING:
    from pathlib import Path

    from elenchus.plan.answer import Answer, Group, MeasureTotal

__all__ = ["FAINT", "INK", "check_ending", "draw", "new_figure", "save", "shortened"]

SUFFIXES = (".svg", ".png")
_COLOUR, FAINT, INK = "#1f6f8b", "#c9d3d8", "#22303a"
_MOST_BARS = 60
_MOST_LABELS = 24
_LEVEL_LABELS = 8
_LONGEST_LABEL = 32


def draw(answer: Answer, path: Path) -> None:
    """Draw the groups of an answer into an SVG or PNG file.

    Raises QuestionError when the answer has no groups or more than can be read, FolderError when the
    file's ending is another or the file cannot be written. The file is replaced as a whole.
    """
    _check(answer, path)
    save(_bars_over_time(answer) if _over_time(answer) else _bars_in_a_list(answer), path)


def save(figure: Any, path: Path) -> None:
    """Write a figure to a file. Raises FolderError."""
    with written_or_told(f"the file {path}", "Name another file."), replacing(path) as part:
        figure.savefig(part, format=path.suffix[1:].lower(), metadata=_metadata(path))


def _check(answer: Answer, path: Path) -> None:
    """Raise the error of an answer or a file name that cannot be drawn."""
    check_ending(path)
    whole = Span(0, len(answer.question))
    if answer.groups is None:
        problem = Problem(
            "no-groups", "a chart draws groups, and the question has none", "Add group by FIELD.", whole
        )
        raise QuestionError(answer.question, [problem])
    if len(answer.groups) > _MOST_BARS:
        message = f"{len(answer.groups)} groups are more than a chart can show"
        hint = f"At most {_MOST_BARS}: group by a coarser part of the date, or ask for less."
        raise QuestionError(answer.question, [Problem("too-many-groups", message, hint, whole)])


def check_ending(path: Path) -> None:
    """Raise OptionError for a file that ends in no form that is drawn."""
    if path.suffix.lower() not in SUFFIXES:
        raise OptionError([Problem("unknown-suffix", f"the file {path} ends neither in .svg nor in .png")])


def _metadata(path: Path) -> dict[str, Any]:
    """Return what keeps a file the same from run to run."""
    return {"Date": None} if path.suffix.lower() == ".svg" else {"Software": None}


def _over_time(answer: Answer) -> bool:
    """Say whether the groups are days, weeks, months or years."""
    name = answer.grouped_by[0]
    return len(answer.grouped_by) == 1 and name.rpartition(".")[2] in ("year", "month", "week", "day")


def new_figure(width: float, height: float) -> tuple[Any, Any]:
    """Return a figure of so many inches and its axes, in our colours."""
    import matplotlib as mpl

    mpl.use("Agg")
    mpl.rcParams.update(
        {"svg.hashsalt": "elenchus", "font.size": 10, "text.color": INK, "svg.fonttype": "none"}
    )
    from matplotlib.figure import Figure
    from matplotlib.layout_engine import ConstrainedLayoutEngine

    figure = Figure(figsize=(width, height), layout=ConstrainedLayoutEngine(w_pad=0.2, h_pad=0.15))
    axes = figure.add_subplot()
    axes.spines[["top", "right", "left", "bottom"]].set_visible(False)
    axes.tick_params(length=0, labelcolor=INK)
    axes.set_axisbelow(True)
    return figure, axes


def _title_of(answer: Answer) -> str:
    """Return what the chart shows, in one line."""
    noun = answer.subject.counted(2)
    added = f", {answer.placements} in groups," if answer.overlap else ""
    what = f"{answer.total} {noun}{added}"
    if measure := _measure_of(answer):
        unit = f" ({measure.unit})" if measure.unit else ""
        what = f"{measure.label}{unit} of {answer.total} {noun}"
    return f"{what} by {', '.join(answer.grouped_by)}"


def _measure_of(answer: Answer) -> MeasureTotal | None:
    """Return the first measure that is a number: it is what bars show the size of, in place of counts."""
    numbers = (each for each in answer.measures if isinstance(each.value, int | float))
    return next(numbers, None)


def _size_of(answer: Answer, group: Group | None) -> tuple[float, str]:
    """Return how long the bar of a group is, and what stands at its end; nothing for a group without rows."""
    if group is None:
        return 0, ""
    measure = _measure_of(answer)
    if measure is None:
        return group.count, str(group.count)
    value: Any = group.measures[answer.measures.index(measure)]
    return value or 0, measured(value, measure.decimals)


def _bars_over_time(answer: Answer) -> Any:
    """Draw columns from the earliest group to the latest, with a gap for each that has no rows."""
    known = {str(group.keys[0]): group for group in answer.groups or () if group.keys[0] is not None}
    labels = _filled(sorted(known))
    figure, axes = new_figure(9, 4.5)
    sizes = [_size_of(answer, known.get(label)) for label in labels]
    drawn = axes.bar(range(len(labels)), [size for size, _ in sizes], color=_COLOUR, width=0.8)
    axes.bar_label(drawn, [text for _, text in sizes], padding=2)
    step = -(-len(labels) // _MOST_LABELS)
    slope: dict[str, Any] = {"rotation": 45, "ha": "right"} if len(labels) > _LEVEL_LABELS else {}
    axes.set_xticks(range(0, len(labels), step), labels[::step], **slope)
    axes.set_yticks([])
    axes.axhline(0, color=FAINT)
    axes.set_title(_title_of(answer) + _without(answer.groups or ()), loc="left")
    return figure


def _without(groups: tuple[Group, ...]) -> str:
    """Return how many rows have no date."""
    missing = sum(group.count for group in groups if group.keys[0] is None)
    return f" ({missing} without)" if missing else ""


def _filled(labels: list[str]) -> list[str]:
    """Return the labels of all units from the first to the last."""
    from elenchus.values.dates import units_between

    return units_between(labels[0], labels[-1]) if labels else []


def _bars_in_a_list(answer: Answer) -> Any:
    """Draw bars below one another, in the order of the groups."""
    groups = answer.groups or ()
    figure, axes = new_figure(9, max(1.6, 0.32 * len(groups) + 0.8))
    colours = [FAINT if group.keys[-1] is None else _COLOUR for group in groups]
    sizes = [_size_of(answer, group) for group in groups]
    drawn = axes.barh(range(len(groups)), [size for size, _ in sizes], color=colours, height=0.7)
    axes.bar_label(drawn, [text for _, text in sizes], padding=4)
    axes.set_yticks(range(len(groups)), [shortened(group.label) for group in groups])
    axes.margins(y=0.02)
    axes.invert_yaxis()
    axes.set_xticks([])
    axes.set_title(_title_of(answer), loc="left")
    return figure


def shortened(label: str) -> str:
    """Return a label that leaves room for its bar, without what no XML may have."""
    label = printable(label)
    text = label if len(label) <= _LONGEST_LABEL else label[: _LONGEST_LABEL - 1].rstrip() + "…"
    return text.replace("$", r"\$")
