"""A dataset as sections of a file of arrays, and back: nothing is read from it before it is asked for."""

from __future__ import annotations

import json
from collections.abc import Mapping
from functools import partial
from typing import TYPE_CHECKING, Any, TypeVar

from elenchus.engine.columns.ancestry import Ancestry
from elenchus.engine.columns.column import Column, Dates, Lists, Numbers, Terms, Texts, single_of
from elenchus.engine.columns.dataset import Dataset, Entries, Flags, Guessed, Misfit
from elenchus.engine.columns.keys import column_keys, with_undeclared
from elenchus.engine.columns.lexicon import Lexicon
from elenchus.engine.columns.naming import EntryNames
from elenchus.engine.columns.recordnames import RecordNames
from elenchus.frozen import knowing
from elenchus.index.problems import packed_problems, unpacked_problems
from elenchus.schema.taxonomy import Taxonomy, Term

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator
    from zoneinfo import ZoneInfo

    from elenchus.index.pack import Pack
    from elenchus.schema.types import FieldType, Schema

__all__ = ["packed_tables", "unpacked_tables"]

# Texts that hardly anybody puts in order: their order is worked out when it is asked for.
_UNSORTED = frozenset({"id", "slug", "source", "address", "image", "image_alt", "summary", "body"})
_SAMENESS = ("hashes", "by_hash", "sorted_hashes", "codes")  # what lexicons know of which texts are the same
_ORDER = ("ranks", "signs")  # and of their order, and what is in them
_LONG = 200  # bytes of a text, on the average, from which on a column is one of running texts
_Key = TypeVar("_Key")
_Value = TypeVar("_Value")


class _Lazily(Mapping[_Key, _Value]):
    """Values that are made when they are first asked for."""

    def __init__(self, makers: Mapping[_Key, Callable[[], _Value]]) -> None:
        self.makers = makers
        self.made: dict[_Key, _Value] = {}

    def __getitem__(self, key: _Key) -> _Value:
        if key not in self.made:
            self.made[key] = self.makers[key]()
        return self.made[key]

    def __iter__(self) -> Iterator[_Key]:
        return iter(self.makers)

    def __len__(self) -> int:
        return len(self.makers)


# Writing


class _Writer:
    """The sections of a dataset; texts that stand in ``shared`` already are named there, and not copied."""

    def __init__(self, shared: Mapping[int, str]) -> None:
        self.shared = shared
        self.sections: dict[str, Any] = {}
        self.lexicons: dict[int, str] = {}

    def lexicon(self, name: str, lexicon: Lexicon, *, sorted_too: bool) -> dict[str, Any]:
        """Take a lexicon; return what is to be known of it."""
        if id(lexicon) in self.lexicons:
            return {"as": self.lexicons[id(lexicon)]}
        self.lexicons[id(lexicon)] = name
        told: dict[str, Any] = {"grows": lexicon.grows}
        if id(lexicon.texts) in self.shared:
            told["texts"] = self.shared[id(lexicon.texts)]
        else:
            self.sections[f"{name}/texts"] = lexicon.texts
        if lexicon.folded is lexicon.texts:
            told["is_folded"] = True
        else:
            self.sections[f"{name}/folded"] = lexicon.folded
        size = int(lexicon.texts.starts[-1] - lexicon.texts.starts[0])
        is_long = size >= _LONG * max(len(lexicon), 1)
        told["arrays"] = () if is_long else (*_SAMENESS, *(_ORDER if sorted_too else ()))
        for each in told["arrays"]:
            self.sections[f"{name}/{each}"] = getattr(lexicon, each)
        return told

    def column(self, name: str, column: Column, *, sorted_too: bool) -> dict[str, Any]:
        """Take a column; return what is to be known of it."""
        told: dict[str, Any] = {"class": type(column).__name__}
        for each in _ARRAYS[type(column).__name__]:
            self.sections[f"{name}/{each}"] = getattr(column, each)
        if isinstance(column, Texts):
            told["lexicon"] = self.lexicon(f"{name}/lexicon", column.lexicon, sorted_too=sorted_too)
        if isinstance(column, Lists):
            told["elements"] = self.column(f"{name}/elements", column.elements, sorted_too=False)
        return told


_ARRAYS = {
    "Numbers": ("keys", "valid"),
    "Dates": ("keys", "valid", "local", "ends", "whole"),
    "Texts": ("places",),
    "Lists": ("starts",),
    "Terms": ("starts", "terms", "posting_starts", "postings"),
}


def packed_tables(data: Dataset, shared: Mapping[int, str]) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return what is to be known of a dataset, as JSON, and its sections.

    ``shared`` are texts that another file has, by their identity, with the names of their sections there.
    """
    writer, entries, names = _Writer(shared), data.entries, data.record_names
    meta: dict[str, Any] = {
        "ids": writer.lexicon("ids", names.ids, sorted_too=False),
        "slugs": writer.lexicon("slugs", names.slugs, sorted_too=False),
        "unknown": list(names.unknown.items()),
        "has_numbers": names.has_numbers,
        "undeclared": _undeclared(data.schema),
        "columns": [
            writer.column(f"column-{number}", column, sorted_too=name not in _UNSORTED)
            for number, ((name, _), column) in enumerate(entries.columns.items())
        ],
        "taxonomies": list(data.taxonomies),
        "flags": data.flags.keys_told,
        "statuses": data.flags.statuses_told,
    }
    writer.sections |= {
        "record_kinds": names.kinds,
        "record_digests": names.digests,
        "records": entries.names.records,
        "kinds": entries.kinds,
        "row_of_code": entries.names.row_of_code,
        "opens": entries.opens,
        "closes": entries.closes,
        "id_rank": entries.id_rank,
        "ancestry/numbers": entries.ancestry.numbers,
        "ancestry/ends": entries.ancestry.ends,
        "guessed/titles": data.guessed.titles,
        "guessed/dates": data.guessed.dates,
        "told": _encoded(_told(data)),
        "flags/which": data.flags.which,
        "flags/beside": data.flags.beside,
    }
    for number, taxonomy in enumerate(data.taxonomies.values()):
        writer.sections[f"taxonomy-{number}"] = _encoded(_packed_taxonomy(taxonomy))
    return meta, writer.sections


def _encoded(value: Any) -> bytes:
    """Return a value as JSON."""
    return json.dumps(value, ensure_ascii=False).encode("utf-8", "surrogatepass")


def _told(data: Dataset) -> dict[str, Any]:
    """Return the problems, notes and misfits of a dataset."""
    numbers = {id(problem): number for number, problem in enumerate(data.problems)}
    misfits = []
    for each in data.misfits:
        if (
            id(each.problem) not in numbers
        ):  # an equal one stands among the problems, each of which is there once
            numbers[id(each.problem)] = data.problems.index(each.problem)
        misfits.append([each.row, each.field, each.text, numbers[id(each.problem)]])
    return {
        "problems": packed_problems(data.problems),
        "notes": packed_problems(data.notes),
        "misfits": misfits,
    }


def _undeclared(schema: Schema) -> dict[str, dict[str, bool]]:
    """Return the fields of each kind that nobody declared, and whether they hold several values."""
    return {
        kind: {name: field.type.many for name, field in rules.fields.items() if not field.declared}
        for kind, rules in schema.kinds.items()
    }


def _packed_taxonomy(taxonomy: Taxonomy) -> dict[str, Any]:
    """Return a taxonomy as JSON."""
    terms = [
        [term.slug, term.name, term.id, list(term.path), list(term.aliases), dict(term.columns)]
        for term in taxonomy.terms
    ]
    return {"tree": taxonomy.tree, "terms": terms, "ends": list(taxonomy.ends), "is_made": taxonomy.is_made}


# Reading


class _Reader:
    """The parts of a dataset in a file; ``others`` is the file with the texts that both share."""

    def __init__(self, pack: Pack, others: Pack) -> None:
        self.pack = pack
        self.others = others
        self.lexicons: dict[str, Lexicon] = {}

    def lexicon(self, name: str, told: Mapping[str, Any]) -> Lexicon:
        """Return a lexicon."""
        if "as" in told:
            return self.lexicons[told["as"]]
        texts = self.others.strings(told["texts"]) if "texts" in told else self.pack.strings(f"{name}/texts")
        folded = texts if "is_folded" in told else self.pack.strings(f"{name}/folded")
        known = {each: self.pack.array(f"{name}/{each}") for each in told["arrays"]}
        self.lexicons[name] = knowing(Lexicon(texts, grows=told["grows"]), folded=folded, **known)
        return self.lexicons[name]

    def column(self, name: str, told: Mapping[str, Any]) -> Column:
        """Return a column."""
        arrays = [self.pack.array(f"{name}/{each}") for each in _ARRAYS[told["class"]]]
        match told["class"]:
            case "Texts":
                return Texts(arrays[0], self.lexicon(f"{name}/lexicon", told["lexicon"]))
            case "Lists":
                return Lists(arrays[0], single_of(self.column(f"{name}/elements", told["elements"])))
            case "Terms":
                return Terms(*arrays)
            case "Dates":
                return Dates(*arrays)
            case _:
                return Numbers(*arrays)


def unpacked_tables(pack: Pack, others: Pack, schema: Schema, zone: ZoneInfo) -> Dataset:
    """Return the dataset of a file."""
    meta, reader = pack.meta, _Reader(pack, others)
    ids, slugs = (reader.lexicon(name, meta[name]) for name in ("ids", "slugs"))
    whole = with_undeclared(schema, meta["undeclared"])
    unknown = dict(map(tuple, meta["unknown"]))
    of_records = (pack.array("record_kinds"), slugs, ids, unknown, pack.array("record_digests"))
    names = RecordNames(*of_records, meta["has_numbers"])
    rows = EntryNames(ids, slugs, pack.array("records"), pack.array("kinds"), list(schema.kinds))
    entries = Entries(
        names=knowing(rows, row_of_code=pack.array("row_of_code")),
        opens=pack.array("opens"),
        closes=pack.array("closes"),
        columns=_columns(reader, column_keys(whole)),
        ancestry=Ancestry(pack.array("ancestry/numbers"), pack.array("ancestry/ends")),
    )
    told = pack.value("told")
    problems = unpacked_problems(told["problems"])
    return Dataset(
        schema=whole,
        entries=knowing(entries, id_rank=pack.array("id_rank")),
        taxonomies=_Lazily(
            {name: partial(_taxonomy, pack, number, name) for number, name in enumerate(meta["taxonomies"])}
        ),
        zone=zone,
        problems=problems,
        misfits=[Misfit(row, field, text, problems[at]) for row, field, text, at in told["misfits"]],
        record_names=names,
        notes=unpacked_problems(told["notes"]),
        flags=Flags(meta["flags"], meta["statuses"], pack.array("flags/which"), pack.array("flags/beside")),
        guessed=Guessed(pack.array("guessed/titles"), pack.array("guessed/dates")),
    )


def _columns(
    reader: _Reader, keys: Iterable[tuple[str, FieldType]]
) -> _Lazily[tuple[str, FieldType], Column]:
    """Return the columns, each read when it is first asked for."""
    told = reader.pack.meta["columns"]
    return _Lazily(
        {
            key: partial(reader.column, f"column-{number}", known)
            for number, (key, known) in enumerate(zip(keys, told, strict=True))
        }
    )


def _taxonomy(pack: Pack, number: int, name: str) -> Taxonomy:
    """Return a taxonomy."""
    told = pack.value(f"taxonomy-{number}")
    terms = [
        Term(slug, title, known, tuple(path), tuple(aliases), columns)
        for slug, title, known, path, aliases, columns in told["terms"]
    ]
    return Taxonomy(name, told["tree"], terms, told["ends"], told["is_made"])
