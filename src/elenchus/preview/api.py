"""Listings on the wire, as JSON:API 1.1 has it: resources, links, counts, errors."""

from __future__ import annotations

import json
import re
from typing import TYPE_CHECKING, Any
from urllib.parse import parse_qsl, quote, urlencode

from elenchus.asking.here import HERE, names_of_here
from elenchus.asking.query import Query, resolved
from elenchus.errors import ElenchusError, NoSuchName, NoSuchPage, Problem
from elenchus.frozen import replace
from elenchus.language.nodes import Literal
from elenchus.language.printer import print_value
from elenchus.plan.nodes import Stored
from elenchus.preview.reply import Reply
from elenchus.schema.subject import ENTRIES
from elenchus.schema.types import Type
from elenchus.values.texts import either, nearest, quoted
from elenchus.values.wording import plain

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping, Sequence

    from elenchus.plan.answer import Answer, Row
    from elenchus.plan.nodes import FieldRef, Plan
    from elenchus.preview.live import Scene
    from elenchus.site.inheritance import Listing
    from elenchus.site.site import Site

__all__ = ["API", "MEDIA_TYPE", "api_reply", "problem_reply"]

API = "/api/"
_LISTINGS = "/api/listings"
_ROWS = "/api/rows"
MEDIA_TYPE = "application/vnd.api+json"
_FILTER = re.compile(r"filter\[([^\[\]]+)\]")
_PAGE_NUMBER = "page[number]"
_SORT = "sort"
_LONGEST_VALUE = 500
_SUMMARY = ("summary",)
_CLASSES = {
    400: "The request cannot be understood",
    404: "There is nothing at this address",
    405: "This address is only read",
    406: "This media type is not given",
    414: "The address is too long",
    500: "The site cannot be read",
}
# What hints of the command line are here.
_OPTIONS = (
    (re.compile(r"--with (\w+)=(\S+?)(?=[.,;]?(?:\s|$))"), r"filter[\1]=\2"),
    (re.compile(r"--page\b"), _PAGE_NUMBER),
)


class _BadRequest(Exception):
    """A request that cannot be answered; ``parameter`` is the one that is wrong."""

    def __init__(self, status: int, problem: Problem, parameter: str = "") -> None:
        super().__init__(problem.message)
        self.status = status
        self.problem = problem
        self.parameter = parameter


def api_reply(scene: Scene, path: str, query: str) -> Reply:
    """Return what stands at an address of the API; what is wrong with a request as JSON:API errors."""
    if path == _LISTINGS:
        return _listings_reply(scene)
    if path.startswith(f"{_LISTINGS}/"):
        return _listing_reply(scene, path.removeprefix(f"{_LISTINGS}/"), query)
    kind, _, name = path.removeprefix(f"{_ROWS}/").partition("/")
    if path.startswith(f"{_ROWS}/") and name:
        return _row_reply(scene, kind, name)
    hint = f"{_LISTINGS} lists the listings."
    return problem_reply(404, [Problem("unknown-page", f"nothing stands at {quoted(path)}", hint)])


def _row_reply(scene: Scene, kind: str, name: str) -> Reply:
    """Return one row as a resource: a public entry by its kind and id, or a term by its taxonomy and id."""
    site = scene.site
    known = [*site.dataset.schema.kinds, *site.dataset.schema.taxonomies]
    if kind not in known:
        message = f"there is no kind or taxonomy {quoted(kind)}"
        hint = f"Kinds and taxonomies: {', '.join(known)}."
        return problem_reply(404, [Problem("unknown-kind", message, hint, near=nearest(kind, known))])
    field = "term" if kind in site.dataset.schema.taxonomies else "entry"
    try:
        query = Query(site, resolved(site, f"from {kind} where {field} = {print_value(Literal(name))}"), {})
        answer = query.answer(in_public=True)
    except ElenchusError as error:
        return problem_reply(404, error.problems)
    if not answer.rows:
        message = f"there is no public {kind} {quoted(name)}"
        hint = "links in the rows of a listing lead to rows."
        return problem_reply(404, [Problem("unknown-entry", message, hint)])
    plan = query.plan
    types = {ref.name: ref for ref in (*plan.fields, *plan.show)}
    resource = _resource(scene, plan, types, answer.rows[0])
    return _document({"data": resource, "links": {"self": resource["links"]["self"]}})


def _listings_reply(scene: Scene) -> Reply:
    """Return all listings, as resources with what they ask and which parameters they take."""
    library = scene.site.library
    data = [
        {
            "type": "listing",
            "id": name,
            "attributes": {
                "title": listing.title,
                "about": str(listing.setting("about") or ""),
                "question": listing.asks,
                "parameters": list(listing.parameter_names),
            },
            "links": {"self": f"{_LISTINGS}/{quote(name)}"},
        }
        for name in library.names
        for listing in (library.get(name),)
    ]
    return _document({"data": data, "links": {"self": _LISTINGS}, "meta": {"total": len(data)}})


def _listing_reply(scene: Scene, name: str, query: str) -> Reply:
    """Return a page of a listing; what is wrong with a request as JSON:API errors."""
    try:
        return _answered(scene, name, query)
    except _BadRequest as error:
        return problem_reply(error.status, [error.problem], error.parameter)
    except NoSuchPage as error:
        return problem_reply(404, error.problems, _PAGE_NUMBER)
    except NoSuchName as error:
        return problem_reply(404, error.problems)
    except ElenchusError as error:
        return problem_reply(400, error.problems)


def _answered(scene: Scene, name: str, address: str) -> Reply:
    """Return a page of a listing. Raises BadRequest and what asking raises."""
    site = scene.site
    if name not in site.library.names:
        near = nearest(name, site.library.names)
        hint = f"{_LISTINGS} lists them all."
        message = f"there is no listing {quoted(name)}"
        raise _BadRequest(404, Problem("unknown-listing", message, hint, near=near))
    listing = site.library.get(name)
    given, page = _read_query(site, listing, address)
    query = Query(site, listing, given)
    try:
        plan = query.plan
    except ElenchusError as error:
        raise _located(listing, given, error) from None
    answer = query.answer(page, in_public=True)
    types = {ref.name: ref for ref in (*plan.fields, *plan.show)}
    return _document(
        {
            "data": [_resource(scene, plan, types, row) for row in answer.rows],
            "links": _links(name, given, listing, answer),
            "meta": _meta(scene, query, answer),
        }
    )


def _read_query(site: Site, listing: Listing, query: str) -> tuple[dict[str, list[str]], str]:
    """Return the values of the parameters, and the page. Raises BadRequest for what it does not take."""
    given: dict[str, list[str]] = {}
    page = "1"
    for key, text in parse_qsl(query, keep_blank_values=True):
        match = _FILTER.fullmatch(key)
        if len(text) > _LONGEST_VALUE:
            raise _BadRequest(400, Problem("long-value", "the value is too long"), key)
        if match:
            _known_filter(site, listing, match[1], key)
            parts = text.split(",") if _takes_many(listing, match[1]) else [text]
            given.setdefault(match[1], []).extend(part for part in parts if part)
        elif key == _SORT:
            given[_order_of(listing)] = [text]
        elif key == _PAGE_NUMBER:
            page = text
        else:
            hint = f"Known: filter[…], {_SORT}, {_PAGE_NUMBER}."
            raise _BadRequest(
                400, Problem("unknown-parameter", f"there is no parameter {quoted(key)}", hint), key
            )
    return given, page


def _takes_many(listing: Listing, name: str) -> bool:
    """Say whether a parameter takes several values, which commas part; undeclared ones do."""
    return name not in listing.parameters or listing.parameters[name][0].many


def _known_filter(site: Site, listing: Listing, name: str, key: str) -> None:
    """Raise BadRequest for a parameter that a listing does not declare, or that is its order."""
    orders = [each for each, (rule, _) in listing.parameters.items() if rule.orders]
    names = [each for each in listing.parameter_names if each not in orders]
    if name in names or (name == HERE and names_of_here(site, listing)):
        return
    near = nearest(name, names)
    hint = f"It takes {either(names) or 'none'}."
    offered = tuple(f"filter[{each}]" for each in near)
    if name in orders:
        hint, offered = f"Write {_SORT}=….", ()
    message = f"{listing.name} has no parameter {quoted(name)}"
    raise _BadRequest(400, Problem("unknown-parameter", message, hint, near=offered), key)


def _order_of(listing: Listing) -> str:
    """Return the parameter that stands for the order. Raises BadRequest where there is none."""
    for name, (rule, _) in listing.parameters.items():
        if rule.orders and name in listing.parameter_names:
            return name
    raise _BadRequest(400, Problem("unknown-parameter", f"{listing.name} has one order only"), _SORT)


def _located(listing: Listing, given: Mapping[str, Sequence[str]], error: ElenchusError) -> Exception:
    """Return an error with the parameter of the request that it is about."""
    problem = error.problems[0]
    name = problem.parameter
    if name not in given:
        return error
    rule = listing.parameters[name][0] if name in listing.parameters else None
    return _BadRequest(400, problem, _SORT if rule and rule.orders else f"filter[{name}]")


# Documents


def _resource(scene: Scene, plan: Plan, types: Mapping[str, FieldRef], row: Row) -> dict[str, Any]:
    """Return a row as a resource: values as attributes, references as relationships."""
    desk = scene.renderer.desk
    view = desk.row(plan.subject, row.id)
    attributes: dict[str, Any] = {}
    relationships: dict[str, Any] = {}
    for name, value in row.values.items():
        if name in ("id", "kind", "address"):
            continue
        ref = types.get(name)
        if ref and ref.type.type in (Type.ENTRY, Type.TERM) and isinstance(ref.source, Stored):
            relationships[name] = {"data": _identifiers(scene, ref, value)}
        elif name in _SUMMARY:
            attributes[name] = view.summary()
        elif ref and ref.type.type is Type.IMAGE:
            attributes[_member(name)] = _addresses(scene, value)
        else:
            attributes[_member(name)] = plain(value)
    found: dict[str, Any] = {"type": view.kind, "id": row.id, "attributes": attributes}
    if relationships:
        found["relationships"] = relationships
    if view.address:
        attributes["address"] = desk.root.whole(view.address)
    found["links"] = {"self": f"{_ROWS}/{quote(view.kind)}/{quote(row.id)}"}
    return found


def _addresses(scene: Scene, value: Any) -> Any:
    """Return images by their whole addresses, where the site has one."""
    desk = scene.renderer.desk
    if isinstance(value, tuple):
        return [_addresses(scene, each) for each in value]
    return desk.root.whole(desk.source_of(str(value))) if value else None


def _member(name: str) -> str:
    """Return a field as the name of a member, which has no dots in JSON:API."""
    return name.replace(".", "_")


def _identifiers(scene: Scene, ref: FieldRef, value: Any) -> Any:
    """Return references as resource identifiers: one or null for a single one, a list for many."""
    names = value if isinstance(value, tuple) else () if value is None else (value,)
    found = [
        {"type": ref.type.taxonomy or scene.renderer.desk.row(ENTRIES, str(name)).kind, "id": str(name)}
        for name in names
    ]
    return found if ref.type.many else next(iter(found), None)


def _links(name: str, given: Mapping[str, Sequence[str]], listing: Listing, answer: Answer) -> dict[str, Any]:
    """Return the links to a page and those around it."""
    orders = {each for each, (rule, _) in listing.parameters.items() if rule.orders}
    pairs = [
        (_SORT, texts[0]) if each in orders else (f"filter[{each}]", ",".join(texts))
        for each, texts in given.items()
        if texts
    ]

    def link(number: int) -> str | None:
        if not 1 <= number <= answer.pages:
            return None
        query = urlencode([*pairs, *([(_PAGE_NUMBER, str(number))] if number > 1 else [])])
        return f"{_LISTINGS}/{quote(name)}" + (f"?{query}" if query else "")

    return {
        "self": link(answer.page),
        "first": link(1),
        "prev": link(answer.page - 1),
        "next": link(answer.page + 1),
        "last": link(answer.pages),
    }


def _meta(scene: Scene, query: Query, answer: Answer) -> dict[str, Any]:
    """Return the counts: of rows, of pages, of groups, and of what each choice would leave."""
    found: dict[str, Any] = {
        "total": answer.total,
        "matched": answer.matched,
        "page": answer.page,
        "pages": answer.pages,
        "at": answer.at.isoformat(),
        "counts": dict(_counts(query)),
        "notices": [str(notice) for notice in answer.notices],
    }
    if answer.groups is not None:
        found["groups"] = [
            {
                "keys": [plain(key) for key in group.keys],
                "label": scene.book.label(answer, group),
                "count": group.count,
                **({"measures": list(map(plain, group.measures))} if group.measures else {}),
            }
            for group in answer.groups
        ]
    if answer.measures:
        found["measures"] = [
            {"label": each.label, "value": plain(each.value), "missing": each.missing}
            for each in answer.measures
        ]
    return found


def _counts(query: Query) -> Iterator[tuple[str, list[dict[str, Any]]]]:
    """Yield for each parameter its choices with the rows that each would leave, the others as given."""
    for name, (rule, _) in query.listing.parameters.items():
        if rule.orders or name not in query.listing.parameter_names:
            continue
        others = {each: texts for each, texts in query.given.items() if each != name}
        found = replace(query, given=others).choices(rule).choices
        yield (
            name,
            [{"value": each.value, "label": each.label, "count": each.count} for each in found if each.count],
        )


def _of_the_wire(text: str) -> str:
    """Return a sentence that speaks of parameters of an address in place of options of a command."""
    for option, parameter in _OPTIONS:
        text = option.sub(parameter, text)
    return text[:1].upper() + text[1:]


def _document(content: dict[str, Any], status: int = 200) -> Reply:
    """Return a JSON:API document."""
    whole = {"jsonapi": {"version": "1.1"}, **content}
    return Reply((json.dumps(whole, ensure_ascii=False) + "\n").encode(), MEDIA_TYPE, status)


def problem_reply(status: int, problems: Iterable[Problem], parameter: str = "") -> Reply:
    """Return problems as JSON:API errors."""
    errors = []
    for problem in problems:
        error: dict[str, Any] = {
            "status": str(status),
            "code": problem.code,
            "title": _CLASSES.get(status, "The request cannot be answered"),
            "detail": _of_the_wire(problem.sentences),
        }
        if parameter:
            error["source"] = {"parameter": parameter}
        errors.append(error)
    return replace(_document({"errors": errors}), status=status)
