"""Beginning a site: content is looked at and never touched, a draft is tried, and then written."""

from __future__ import annotations

import json
import os
from collections import Counter, defaultdict
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from elenchus.errors import About, FolderError, OptionError, Place, Problem
from elenchus.files import temporary_folder, write_whole, written_or_told
from elenchus.frozen import replace
from elenchus.site.definition import read_definition
from elenchus.site.keys import SITE_FILE
from elenchus.site.site import open_site
from elenchus.sources import SourceSpec, TableSpec
from elenchus.starting.draft import drafted
from elenchus.starting.kinds import word_for_kind
from elenchus.starting.leaving import LeftOut, is_home
from elenchus.starting.looking import MOST_LOOKED_AT, address_stock, read_stock, stocks_in
from elenchus.starting.media import named_files
from elenchus.starting.plan import MOST_LISTED, MOST_PAGES, site_plan
from elenchus.starting.tables import table_specs
from elenchus.starting.unsure import Unsure
from elenchus.starting.writing import field_text, files_of, site_text, source_text
from elenchus.values.addresses import has_password
from elenchus.values.texts import distinct, quoted, with_article

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.engine.columns.dataset import Misfit
    from elenchus.site.site import Site
    from elenchus.starting.guessing import Typed
    from elenchus.starting.looking import Stock
    from elenchus.starting.plan import SitePlan
    from elenchus.starting.sitedraft import SiteDraft

__all__ = ["Begun", "begin"]

_DATABASES = ("postgresql:", "mysql:", "mariadb:")
_MOST_TRIALS = 4
_MOST_TRIED = 60_000  # entries of a source, of more of which only a sample is tried
_TITLED = 0.5  # of the entries of a kind that must have a date for it to be shown by dates


class Begun(NamedTuple):
    """What became of a site that was begun: its draft, the files written, what is new for one that was there.

    ``left_out`` are files and tables that are not content, with how many files each stands for.
    ``site`` is the site as it was tried, which has only a sample of a large source.
    """

    folder: Path
    draft: SiteDraft
    written: Sequence[str]
    proposed: Sequence[str]
    left_out: Mapping[str, int]
    site: Site


def begin(place: str, into: Path | None = None, password_from: str = "") -> Begun:
    """Write the files of a site for a folder, a file or an address.

    ``password_from`` names the variable of the environment that has the password of a database.
    Raises FolderError, OptionError, SiteError.
    """
    is_address = "://" in place
    if not (is_address or os.path.lexists(place)):
        message = f"there is no file or folder {place}"
        hint = "Name a folder, a file, or the address of a feed or a database."
        raise FolderError([Problem("cannot-read", message, hint, place=Place(place))])
    path = Path(place)
    if not is_address and is_home(path):
        message = f"{place} is a home folder, and most of it is not for everybody"
        hint = "Name the folder with the content, such as ~/Documents/site."
        raise OptionError([Problem("home-folder", message, hint)])
    folder = into or (Path.cwd() if is_address else path.parent if path.is_file() else path)
    if is_address and has_password(place):
        message = "the address tells a password, which would stand in the site file"
        raise OptionError(
            [Problem("secret-in-file", message, "Leave it out, and write password_from in the source.")]
        )
    folder.mkdir(parents=True, exist_ok=True)
    noted: list[LeftOut] = []
    stocks = list(_stocks(folder, place, password_from, noted, is_address=is_address))
    names = distinct([stock.spec.name for stock in stocks])
    stocks = [
        stock._replace(spec=replace(stock.spec, name=name)) for stock, name in zip(stocks, names, strict=True)
    ]
    left = {name: count for each in noted for name, count in each.counts.items()}
    unread = [stock for stock in stocks if stock.problems and not stock.entries]
    left |= {f"{stock.spec.place} (unreadable)": 1 for stock in unread}
    if not any(stock.entries for stock in stocks):
        message = f"nothing in {place} can be read as content"
        wrong = next((problem for stock in stocks for problem in stock.problems), None)
        hint = (
            str(wrong)
            if wrong
            else "Known are Markdown, HTML, CSV, JSON, JSON Lines, feeds and files of SQLite."
        )
        raise FolderError([Problem("no-content", message, hint, place=Place(place))])
    draft = drafted(_title(folder, place), [stock for stock in stocks if stock.entries])
    entries = [entry for stock in stocks for entry in stock.entries]
    draft = draft._replace(files=named_files([path for each in noted for path in each.stay], entries))
    draft, site = _tried(folder, draft)
    if (folder / SITE_FILE).exists():
        return Begun(folder, draft, (), list(_news(folder, draft)), left, site)
    plan = site_plan(draft, _counts(draft, site), _dated(site))
    draft = _with_doubts(draft, plan)
    files = files_of(draft, plan)
    for name, text in files.items():
        if (folder / name).exists():
            continue
        with written_or_told(f"the file {folder / name}", "Name another folder with --into."):
            write_whole(folder / name, text.encode())
    return Begun(folder, draft, list(files), (), left, site)


def _stocks(
    folder: Path, place: str, password_from: str, noted: list[LeftOut], *, is_address: bool
) -> Iterator[Stock]:
    """Yield what was found, of each table of a database by itself; note what is left out.

    Raises FolderError.
    """
    if is_address and place.startswith(_DATABASES):
        table = TableSpec(url=place, password_from=password_from)
        spec = SourceSpec("database", "database", (), kind="entry", table=table)
        yield from _tables_of(folder, spec, noted)
        return
    if is_address:
        yield address_stock(folder, place)
        return
    for stock in stocks_in(folder, Path(place), noted):
        if stock.spec.read == "database":
            yield from _tables_of(folder, stock.spec, noted)
        else:
            yield stock


def _tables_of(folder: Path, spec: SourceSpec, noted: list[LeftOut]) -> Iterator[Stock]:
    """Yield what the tables of a database hold; note those that are not content. Raises FolderError."""
    left: dict[str, int] = {}
    try:
        found = table_specs(folder, spec, MOST_LOOKED_AT, left)
    except OSError as error:
        message = f"the database cannot be read: {error.strerror}"
        hint = "If it wants a password, name the variable that has it with --password-from."
        raise FolderError([Problem("unreadable-database", message, hint, place=Place(spec.place))]) from None
    noted.append(LeftOut(left, ()))
    for each in found:
        stock = read_stock(folder, each.few, each.unsure)
        spec = replace(each.spec, omit=stock.spec.omit)
        is_sample = each.size > MOST_LOOKED_AT
        size = each.size if each.size > _MOST_TRIED else 0
        yield stock._replace(spec=spec, refers=each.refers, size=size, is_sample=is_sample)


def _title(folder: Path, place: str) -> str:
    """Return a title for the site: the name of its folder as words."""
    name = folder.resolve().name or place
    words = name.replace("-", " ").replace("_", " ").split()
    return " ".join(words)[:1].upper() + " ".join(words)[1:]


def _tried(folder: Path, draft: SiteDraft) -> tuple[SiteDraft, Site]:
    """Return a draft that holds what all entries have, not only those that were looked at, and its site."""
    for _ in range(_MOST_TRIALS):
        site = _opened(folder, draft)
        changed = _with_room(folder, draft, site)
        if changed is None:
            break
        draft = changed
    return draft, site


def _with_room(folder: Path, draft: SiteDraft, site: Site) -> SiteDraft | None:
    """Return a draft whose fields have wider types where values of a site do not fit, and better slugs.

    None if there is nothing to be changed.
    """
    data = site.dataset
    unknown = _unknown_kinds(site)
    misfits: dict[tuple[str, str], list[Misfit]] = defaultdict(list)
    for each in data.misfits:
        misfits[data.kind_of(each.row), each.field].append(each)
    numbered = {each.place.file for each in data.notes if each.about is About.IDENTITY and each.place}
    found, is_changed = [], False
    for source in draft.sources:
        fields, unsure = dict(source.fields), list(source.unsure)
        for (kind, name), wrong in misfits.items():
            if name not in fields or kind not in source.kinds or fields[name].type == "text":
                continue
            unsure.append(_wider(name, fields, wrong))
            is_changed = True
        spec = source.spec
        are_files = spec.read in ("markdown", "html") and not spec.slug
        if are_files and _gives(folder, spec.paths, numbered):
            spec, is_changed = replace(spec, slug="{folders}-{stem}"), True
        kinds, fields_of = dict(source.kinds), dict(source.fields_of)
        if words := unknown.get(spec.name):
            kinds |= {word_for_kind(word): count for word, count in words.items()}
            fields_of |= {word_for_kind(word): list(fields) for word in words}
            named = {word: kind for word in words if (kind := word_for_kind(word)) != word}
            spec, is_changed = replace(spec, kinds={**spec.kinds, **named}), True
        found.append(
            source._replace(spec=spec, fields=fields, unsure=unsure, kinds=kinds, fields_of=fields_of)
        )
    return draft._replace(sources=found) if is_changed else None


def _unknown_kinds(site: Site) -> dict[str, Counter[str]]:
    """Return the words for kinds that the entries which were looked at did not have, for each source."""
    records, found = site.content.records, defaultdict[str, Counter[str]](Counter)
    for record, word in site.dataset.record_names.unknown.items():
        if word:
            found[records.habits[int(records.sources[record])].source][word] += 1
    return found


def _with_doubts(draft: SiteDraft, plan: SitePlan) -> SiteDraft:
    """Return a draft that says which kinds have too many entries for a page of each."""
    found = []
    for source in draft.sources:
        unsure = list(source.unsure)
        for kind in plan.kinds:
            if kind.name in source.kinds and not kind.has_pages:
                what = (
                    f"there are more than {MOST_PAGES:,}, so there is no page for each {kind.name}, "
                    f"and lists show the first {MOST_LISTED}"
                )
                otherwise = (
                    f'address = "{kind.address}/{{slug}}/" in [kinds.{kind.name}], and a page set; '
                    "for longer lists another limit"
                )
                unsure.insert(0, Unsure(what, otherwise, "For such pages, write"))
        found.append(source._replace(unsure=unsure))
    return draft._replace(sources=found)


def _wider(name: str, fields: dict[str, Typed], wrong: Sequence[Misfit]) -> Unsure:
    """Give a field a type that has room for values that do not fit, and return what is unsure by that."""
    told, place = fields[name], wrong[0].problem.place
    fields[name] = told.wider()
    values = "1 value does" if len(wrong) == 1 else f"{len(wrong):,} values do"
    at = f" at {place}" if place else ""
    what = f"{name} is {with_article(fields[name].type)} because {values} not fit {told.type}: "
    return Unsure(f"{what}{quoted(wrong[0].text)}{at}", f'{name} = {{ type = "{told.type}" }}')


def _gives(folder: Path, paths: Sequence[str], files: set[str]) -> bool:
    """Say whether a source gives the entries of some files."""
    return any(
        name.startswith(str((folder / path.partition("*")[0]).resolve()).rstrip("/")) or path.startswith("*")
        for path in paths
        for name in files
    )


def _of_sample(spec: SourceSpec) -> SourceSpec:
    """Return a source that reads the entries of another which were looked at, from a file of them."""
    plain = {"header": 1, "footer": 0, "quote": '"', "encoding": "", "records": "", "delimiter": ""}
    return replace(spec, read="jsonl", paths=(f"{spec.name}.jsonl",), table=None, url="", exclude=(), **plain)


def _opened(folder: Path, draft: SiteDraft) -> Site:
    """Return the site that a draft makes, which stands elsewhere meanwhile. Raises SiteError."""
    large = {source.spec.name: source for source in draft.sources if source.size > _MOST_TRIED}
    draft = draft._replace(
        sources=[
            source._replace(spec=_of_sample(source.spec)) if source.spec.name in large else source
            for source in draft.sources
        ]
    )
    whole = [source for source in draft.sources if source.spec.name not in large]
    paths = {path: str(folder.resolve() / path) for source in whole for path in source.spec.paths}
    paths[""] = f"{folder.resolve()}/"  # what stands before the patterns of files that are excluded
    text = site_text(draft, site_plan(draft, {}, ()), paths)

    def write(made: Path) -> None:
        (made / SITE_FILE).write_text(text, encoding="utf-8")
        for name, source in large.items():
            lines = (
                json.dumps(dict(entry.values), ensure_ascii=False, default=str) for entry in source.sample
            )
            content = "\n".join(lines).encode("utf-8", "replace")
            (made / f"{name}.jsonl").write_bytes(content)

    with temporary_folder(write) as temporary:
        site = open_site(temporary, index=False)
        _ = site.dataset
    return site


def _counts(draft: SiteDraft, site: Site) -> dict[str, int]:
    """Return how many entries there are of each kind."""
    kinds = site.dataset.entries.kinds
    found = {kind: int((kinds == number).sum()) for number, kind in enumerate(site.dataset.kind_names)}
    large = [source for source in draft.sources if source.size > _MOST_TRIED]
    sizes = {kind: source.size for source in large for kind in source.kinds}
    return {**found, **sizes}


def _dated(site: Site) -> list[str]:
    """Return the kinds whose entries mostly have dates."""
    data = site.dataset
    dates = data.dates("date")
    found = []
    for number, kind in enumerate(data.kind_names):
        mine = data.entries.kinds == number
        if mine.any() and dates.valid[mine].mean() >= _TITLED:
            found.append(kind)
    return found


def _news(folder: Path, draft: SiteDraft) -> Iterator[str]:
    """Yield what a site that is there does not declare of what was found."""
    old = read_definition(folder)
    known = {path for spec in old.sources for path in (*spec.paths, spec.url) if path}
    covered = {path.rstrip("/") for path in known}
    for source in draft.sources:
        spec = source.spec
        table = spec.table.table if spec.table else ""
        tables = {each.table.table for each in old.sources if each.table and each.paths == spec.paths}
        is_new = table not in tables if table else not ({*spec.paths, spec.url} & covered)
        if is_new and spec.name not in {each.name for each in old.sources}:
            yield source_text(source)
    for kind in draft.kinds:
        if kind not in old.schema.kinds:
            yield f"[kinds.{kind}]\n"
            continue
        for name, told in draft.fields(kind).items():
            if name not in old.schema.fields_of(kind):
                yield f"[kinds.{kind}.fields]\n{field_text(name, told)}\n"
    for name, tree in draft.taxonomies.items():
        fields = {field for kind in old.schema.kinds for field in old.schema.fields_of(kind)}
        if name not in old.schema.taxonomies and name not in fields:
            yield f"[taxonomies.{name}]\n{'tree = true' if tree else ''}\n"
