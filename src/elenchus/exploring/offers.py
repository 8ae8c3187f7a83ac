"""What may be written next, from what the site has: each with the rows that it would leave."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, TypeAlias

from elenchus.asking.parameters import ground
from elenchus.errors import ElenchusError
from elenchus.exploring.looking import Basis
from elenchus.exploring.sketch import Sketch
from elenchus.frozen import Frozen, Working, replace
from elenchus.language.expecting import Awaited, Want, expected
from elenchus.language.lexer import is_plain_word
from elenchus.language.nodes import Literal, Path
from elenchus.language.parser import read_changes
from elenchus.language.printer import print_value
from elenchus.language.tree import CLAUSES_OF
from elenchus.language.words import is_keyword
from elenchus.operators import Operands, operator, spellings
from elenchus.plan.fields import Fields, NoField
from elenchus.plan.groupfields import COUNT, across
from elenchus.plan.nodes import Across, GroupBy, Test
from elenchus.plan.values import DATE_WORDS, Refused, Resolver
from elenchus.schema.subject import ENTRIES, terms_of
from elenchus.schema.types import CORE_FIELDS, Type, describe
from elenchus.site.inheritance import Listing
from elenchus.values.kept import cached_property
from elenchus.values.texts import fold, nearest
from elenchus.values.wording import spoken

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.language.expecting import Expected
    from elenchus.plan.nodes import FieldRef, Plan
    from elenchus.schema.subject import Subject

__all__ = ["Offer", "Offers", "offers"]

_MOST = 60  # offers of one sort
_MOST_TRIED = 120  # values whose rows are counted
_MOST_TERMS = 400
_OF_SITE = frozenset(
    {Type.TERM, Type.ENTRY, Type.CHOICE, Type.YESNO, Type.DATE, Type.DATETIME}
)  # not of rows
_Known: TypeAlias = tuple[str, str, str]  # a value, what is told of it, both folded
_LEAD = re.compile(r"(?:^|\s)(?:(and)\s+)?(where)\s*$|(?:\s|^)(and|or|not)\s*$|\(\s*$", re.IGNORECASE)
_JOINTS = frozenset({"and", "or"})
# What a clause may begin with, and what it is for.
_CLAUSE_NOTES = {
    "and where": "one more condition",
    "from": "kinds, a taxonomy or a listing",
    "including unpublished": "drafts and what is scheduled, too",
    "where": "conditions in the place of all that there are",
    "order by": "which rows come first",
    "lead with": "entries before all others",
    "at most": "so many rows of one value",
    "group by": "rows in groups, counted",
    "having": "which groups stay: by their count or a measure",
    "measure": "sums, averages and the like of a field",
    "offset": "so many rows are skipped",
    "limit": "so many rows at most",
    "per page": "so many rows on a page",
    "no": "take a clause away",
}


class Offer(Frozen):
    """Something that may be written: the text, what it is, and how many rows it would leave if that is known.

    ``is_near`` says that it is not what was begun, but is spelled like it.
    """

    text: str
    note: str = ""
    count: int | None = None
    is_near: bool = False

    @property
    def is_idle(self) -> bool:
        """Say whether it would leave no row."""
        return self.count == 0


class Offers(Frozen):
    """What may stand in the place of a text from ``at`` on, the best first."""

    at: int
    offers: tuple[Offer, ...]


class _Here(Working):
    """Where something is to be written: a sketch with what stands before it, and what is asked there."""

    basis: Basis
    sketch: Sketch
    expected: Expected

    @cached_property
    def fields(self) -> Fields:
        """The fields that may be named."""
        data = self.basis.site.dataset
        kinds, subject = self.asked_rows
        return Fields(data, kinds, subject)

    @cached_property
    def asked_rows(self) -> tuple[tuple[str, ...], Subject]:
        """The kinds that are asked, and what rows are."""
        schema = self.basis.site.dataset.schema
        sources = [line for line in self.sketch.lines if line.name == "source"]
        names = [name.text for line in sources if line.is_on for name in line.node.names]
        if len(names) == 1 and names[0] in schema.taxonomies:
            return (), terms_of(names[0])
        if len(names) == 1 and names[0] in self.basis.site.library.names:
            query = self.basis.query(Sketch(tuple(sources)))
            if query.is_askable:
                return query.plan.kinds, query.plan.subject
        return tuple(name for name in schema.kinds if name in names) or tuple(schema.kinds), ENTRIES

    def field(self, path: Path) -> FieldRef | None:
        """Return the field of a path; None where there is none."""
        try:
            return across(path, self.fields)[0] if path.measure else self.fields.find(path)
        except NoField:
            return COUNT if path.names == ("count",) else None  # of the rows of a group, after having

    def plan(self) -> Plan | None:
        """Return the plan of the rows that there are at that place, without what orders and cuts them."""
        kept = tuple(line for line in self.sketch.lines if line.name in ("source", "unpublished", "where"))
        query = self.basis.query(Sketch(kept))
        return query.plan if query.is_askable else None


def offers(sketch: Sketch, basis: Basis, text: str) -> Offers:
    """Return what may be written at the end of changes of a sketch that somebody is writing."""
    found = expected(text)
    here = _Here(basis, _before(sketch, text, found), found)
    sorts: dict[str, Offer] = {}
    at = found.at
    for awaited in sorted(found.awaited, key=lambda each: each.operator.startswith("not ")):
        start = awaited.at if awaited.want is Want.VALUE else found.at
        typed = text[start:]
        known = _matching(list(_offers_of(here, awaited, typed, sketch)), typed)
        if known and start != found.at:  # of a value that has several words all of it is written anew
            return Offers(start, tuple(known))
        for offer in known:
            sorts.setdefault(offer.text, offer)
    best = sorted(sorts.values(), key=lambda offer: (offer.is_near, offer.is_idle))
    return Offers(at, tuple(best))


def _before(sketch: Sketch, text: str, found: Expected) -> Sketch:
    """Return a sketch with the conditions that stand before the one that is being written."""
    written, replaces, is_other = text[: found.before], False, False
    while match := _LEAD.search(written):
        is_other = is_other or (match[3] or "").lower() in ("or", "not")
        replaces = replaces or bool(match[2] and not match[1])
        written = written[: match.start()]
    if replaces:  # “where …” takes the place of all conditions
        sketch = Sketch(tuple(line for line in sketch.lines if not line.is_condition))
    if is_other and not replaces:
        return sketch
    changes, problems = read_changes(written)
    return sketch if problems or is_other else sketch.changed(changes)


def _matching(known: Sequence[Offer], typed: str) -> list[Offer]:
    """Return what goes on as it was begun, or has that in it; what is spelled like it where nothing has."""
    begun = fold(typed.lstrip("\"'"))
    if not begun:
        return list(known[:_MOST])
    first = [each for each in known if fold(each.text.lstrip("\"'")).startswith(begun)]
    inside = [each for each in known if begun in fold(f"{each.text} {each.note}") and each not in first]
    found = [*first, *inside]
    if not found:
        near = nearest(begun, (each.text for each in known))
        found = [replace(each, is_near=True) for name in near for each in known if each.text == name]
    return found[:_MOST]


def _offers_of(here: _Here, awaited: Awaited, typed: str, sketch: Sketch) -> Iterator[Offer]:
    """Yield what may stand for something that is awaited."""
    match awaited.want:
        case Want.WORDS:
            yield from _words(here, awaited.words)
        case Want.CLAUSE:
            yield from _clauses(here, sketch)
        case Want.REMOVAL:
            yield from _removal(awaited.words, sketch)
        case Want.ROWS:
            yield from _rows(here)
        case Want.LISTING:
            yield from _listings(here)
        case Want.TAXONOMY:
            yield from _taxonomies(here)
        case Want.FIELD:
            yield from _fields(here, typed)
        case Want.COUNTED:
            yield from _counted(here)
        case Want.OPERATOR:
            yield from _operator(here, awaited)
        case Want.VALUE:
            yield from _values(here, awaited, typed)
        case Want.NUMBER:
            yield from (Offer(str(number)) for number in (3, 5, 10, 20))


def _words(here: _Here, words: str) -> Iterator[Offer]:
    """Yield words of the language; what joins conditions only after a whole one."""
    if words not in _JOINTS or _is_whole(here):
        yield Offer(words)


def _taxonomies(here: _Here) -> Iterator[Offer]:
    """Yield the taxonomies."""
    yield from (Offer(name, "a taxonomy") for name in here.basis.site.dataset.schema.taxonomies)


def _clauses(here: _Here, sketch: Sketch) -> Iterator[Offer]:
    """Yield the words with which a clause begins, where one may; of conditions first one more."""
    if not _is_whole(here):
        return
    words = [each for each in _CLAUSE_NOTES if each != "no" or sketch.lines]
    if not any(line.is_condition for line in sketch.lines):
        words.remove("and where")
    yield from (Offer(each, _CLAUSE_NOTES[each]) for each in words)


def _removal(words: str, sketch: Sketch) -> Iterator[Offer]:
    """Yield a clause that may be taken away, where there is one."""
    if any(CLAUSES_OF[line.name] == words for line in sketch.lines):
        yield Offer(words)


def _is_whole(here: _Here) -> bool:
    """Say whether what stands before may be a condition of its own: a bare name is one of yes or no only."""
    flags = [each.path for each in here.expected.awaited if each.want is Want.FLAG]
    if not flags or flags[0] is None:
        return True
    names = flags[0].names
    if len(names) == 1 and names[0] in here.basis.site.dataset.schema.conditions:
        return True
    field = here.field(flags[0])
    return field is not None and field.type.type is Type.YESNO


def _rows(here: _Here) -> Iterator[Offer]:
    """Yield kinds, taxonomies and listings, each with its rows."""
    schema = here.basis.site.dataset.schema
    for name in schema.kinds:
        yield Offer(name, "a kind", _count_from(here, name))
    for name in schema.taxonomies:
        yield Offer(name, "a taxonomy", _count_from(here, name))
    yield from _listings(here)


def _listings(here: _Here) -> Iterator[Offer]:
    """Yield the listings with their titles."""
    library = here.basis.site.library
    for name in library.names:
        yield Offer(name, f"a listing: {library.get(name).title}")


def _count_from(here: _Here, name: str) -> int | None:
    """Return the number of rows of a kind or a taxonomy."""
    changes, _ = read_changes(f"from {name}")
    bare = Basis(here.basis.site, Listing("", here.basis.listing.place))
    return bare.count(Sketch().changed(changes))


def _fields(here: _Here, typed: str) -> Iterator[Offer]:
    """Yield the fields that may be named, those after a dot where one is written; conditions with a name."""
    above, dot, _ = typed.rpartition(".")
    fields = here.fields
    if dot:
        field = here.field(Path(tuple(above.split("."))))
        names = fields.names_after(field) if field else {}
        yield from (Offer(f"{above}.{name}", describe(known)) for name, known in names.items())
        return
    schema = here.basis.site.dataset.schema
    own_first = sorted(fields.names().items(), key=lambda pair: pair[0] in CORE_FIELDS or pair[0] == "entry")
    for name, known in own_first:
        yield Offer(name if not is_keyword(name) else f'"{name}"', describe(known))
    if here.asked_rows[1] == ENTRIES:
        yield from (Offer(name, f"means {text}") for name, text in schema.conditions.items())


def _counted(here: _Here) -> Iterator[Offer]:
    """Yield the fields by which entries refer to the rows."""
    schema, fields = here.basis.site.dataset.schema, here.fields
    for kind in schema.kinds:
        for name in schema.fields_of(kind):
            try:
                fields.counted(Path((kind, name), counted=True))
            except NoField:
                continue
            yield Offer(f"{kind}.{name}", "how many refer to a row")


def _operator(here: _Here, awaited: Awaited) -> Iterator[Offer]:
    """Yield an operator where it fits the field, a denied one where it has no word of its own for that."""
    field = here.field(awaited.path) if awaited.path else None
    name, is_negated = spellings()[tuple(awaited.operator.split())]
    record = operator(name)
    is_second = is_negated and bool(record.opposite) and awaited.operator != record.opposite
    if field is None or not record.fits(field.type) or is_second:
        return
    if is_negated and awaited.operator.startswith("not is"):
        return
    doc = re.split(r"[.;:](?:\s|$)", record.doc)[0]
    yield Offer(awaited.words, f"not so: {doc[:1].lower()}{doc[1:]}" if is_negated else doc)


# Values


def _values(here: _Here, awaited: Awaited, typed: str) -> Iterator[Offer]:
    """Yield values with the rows that each would leave, most first."""
    if awaited.path is None:
        if awaited.words in ("lead with", "related to"):
            yield from _entries(here)
        return
    field = here.field(awaited.path)
    plan = here.plan()
    if field is None or plan is None:
        return
    if isinstance(field.source, Across):  # of many rows: nobody counts which groups each value would leave
        yield from (Offer(text, note) for text, note in _of_groups(field))
        return
    most = _MOST_TERMS if field.type.type is Type.TERM else _MOST_TRIED
    found = _begun(_values_of(here, field, plan), typed, most)
    if awaited.words == "under":
        yield from (Offer(_as_written(text), note) for text, note, _ in found)
        return
    counted = _with_counts(here, field, awaited, plan, found)
    yield from sorted(counted, key=lambda each: -(each.count or 0) if not field.type.type.is_date else 0)


def _of_groups(field: FieldRef) -> Iterator[tuple[str, str]]:
    """Yield values that a measure can be compared with."""
    if field.type.type is Type.CHOICE:
        yield from ((name, "") for name in field.type.choices)
    elif field.type.type.is_date:
        yield from ((word, "") for word in DATE_WORDS)
    else:
        yield from ((str(number), "") for number in (1, 10, 100))


def _values_of(here: _Here, field: FieldRef, plan: Plan) -> list[_Known]:
    """Return the values that a field can be compared with, each with what is told of it, and folded.

    They are kept: whoever writes a value asks for them at each key.
    """
    known = here.basis.known
    key = field, plan if field.type.type not in _OF_SITE else None
    if key not in known:
        pairs = _known_values(here, field, plan)
        known[key] = [(text, note, fold(f"{text} {note}")) for text, note in pairs]
    found: list[_Known] = known[key]
    return found


def _begun(found: list[_Known], typed: str, most: int) -> list[_Known]:
    """Return the values that a text may be the beginning of, else all; as many as are counted."""
    begun = fold(typed.lstrip("\"'"))
    some = [each for each in found if begun in each[2]] if begun else []
    return (some or found)[:most]


def _known_values(here: _Here, field: FieldRef, plan: Plan) -> Iterator[tuple[str, str]]:
    """Yield the values that a field can be compared with, each with what is to be told of it."""
    site, kind = here.basis.site, field.type
    if kind.type is Type.TERM:
        taxonomy = site.dataset.taxonomies[kind.taxonomy]
        hidden = site.executor.hidden_terms(taxonomy.name)
        for number, (term, label) in enumerate(zip(taxonomy.terms, taxonomy.labels, strict=True)):
            if number not in hidden:
                yield label, term.name
    elif kind.type is Type.ENTRY:
        yield from site.executor.entries_of(kind.kinds)
    elif kind.type is Type.CHOICE:
        yield from ((name, "") for name in kind.choices)
    elif kind.type is Type.YESNO:
        yield from (("yes", ""), ("no", ""))
    elif kind.type.is_date:
        yield from ((words, "") for words in DATE_WORDS)
    elif kind.type in (Type.TEXT, Type.INTEGER, Type.NUMBER, Type.URL, Type.IMAGE) and field.name != "body":
        yield from _stored(here, field, plan)


def _stored(here: _Here, field: FieldRef, plan: Plan) -> Iterator[tuple[str, str]]:
    """Yield the values of texts and numbers that rows have, the most frequent first."""
    key = GroupBy(field, by="count", descending=True)
    grouped = replace(
        plan, groups=(key,), per_group=0, show=(), having=None, measures=()
    )  # only their counts are wanted
    for group in here.basis.site.executor.run(grouped, without=here.basis.without).groups or ():
        if group.keys[0] is not None:
            yield spoken(group.keys[0]), ""


def _entries(here: _Here) -> Iterator[Offer]:
    """Yield the entries that may come first."""
    kinds, _ = here.asked_rows
    for kind in kinds:
        for name, title in here.basis.site.executor.entries_of(kind):
            yield Offer(_as_written(name), title)


def _with_counts(
    here: _Here, field: FieldRef, awaited: Awaited, plan: Plan, known: Sequence[_Known]
) -> Iterator[Offer]:
    """Yield values as they are written, each with the rows that it would leave."""
    name, is_negated = spellings().get(tuple(awaited.operator.split()), (awaited.operator, False))
    own = ground(here.basis.site)
    resolver = Resolver(own.catalog, own.clock, unpublished=plan.unpublished)
    tests: dict[int, Test] = {}
    for number, (text, _, _) in enumerate(known):
        try:
            tests[number] = Test(field, name, (resolver.value(field, Literal(text)),), is_negated)
        except Refused:
            continue
    if operator(name).takes_pattern or operator(name).operands is Operands.PAIR:
        tests = {}
    try:
        counted = here.basis.site.executor.counts(plan, list(tests.values()), without=here.basis.without)
        counts = dict(zip(tests, counted, strict=True))
    except ElenchusError:
        counts = {}
    for number, (text, note, _) in enumerate(known):
        yield Offer(_as_written(text), note if fold(note) != fold(text) else "", counts.get(number))


def _as_written(text: str) -> str:
    """Return a value as it stands in a question."""
    return text if is_plain_word(text) else print_value(Literal(text))
