"""Templates: those of the site before the built-in ones, every problem in them with its file and line."""

from __future__ import annotations

import os
import traceback
from datetime import date
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

import jinja2
import jinja2.bccache
import jinja2.meta
import jinja2.nodes
from markupsafe import Markup

from elenchus.errors import ElenchusError, Place, Problem, SiteError
from elenchus.files import is_file, is_text, read_whole
from elenchus.frozen import replace
from elenchus.pages.paths import TEMPLATES
from elenchus.rendering.bounds import BoundedEnvironment
from elenchus.rendering.pager import Pager, PagerStep
from elenchus.rendering.rows import RowView
from elenchus.rendering.values import Image, Item, Value
from elenchus.rendering.views import (
    Control,
    FormView,
    GroupView,
    Link,
    Option,
    PageView,
    SectionView,
    ShownField,
    SiteView,
)
from elenchus.values.texts import nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Mapping, MutableMapping, Sequence
    from types import CodeType

__all__ = ["Templates"]

# Names that were given up, and what they are called now.
_RENAMED_FILES = {"page.html": "sheet.html", "section.html": "rows.html"}
_RENAMED_NAMES = {"page": "sheet", "section": "part", "empty": "empty_message", "count": "number"}
_BUILT_IN = Path(__file__).with_name("templates")


# Attributes by which generators, coroutines and classes lead into the insides of Python, beside those
# that begin with a line below.
_INNER = frozenset(
    {"gi_frame", "gi_code", "gi_yieldfrom", "cr_frame", "cr_code", "cr_await", "ag_frame", "ag_code", "mro"}
)


# What templates are given, and what of it is the program's own: whatever is not named here has no attributes
# to a template, so that no way leads from a row to the site, its files and its drafts.
_OURS: dict[type, frozenset[str]] = {
    RowView: frozenset(
        {
            "desk",
            "subject",
            "made",
            "besides",
            "number",
            "drawn_body",
            "far_value",
            "value",
            "item",
            "instant",
        }
    ),
    SectionView: frozenset({"draw", "look"}),
    **dict.fromkeys(
        (ShownField, Control, FormView, GroupView, Link, Option, PageView, SiteView), frozenset()
    ),
    **dict.fromkeys((Image, Item, Value, Pager, PagerStep), frozenset()),
}
_PLAIN = (str, bytes, int, float, bool, date, list, tuple, dict, set, frozenset, range, type(None))


class _Noting(jinja2.Environment):
    """Templates that note the names of those that are used."""

    used: dict[str, str | None]
    digests: dict[str, str]

    def get_template(
        self,
        name: str | jinja2.Template,
        parent: str | None = None,
        globals: MutableMapping[str, Any] | None = None,  # noqa: A002 - as the library calls it
    ) -> jinja2.Template:
        """Return a template by its name, and note what it was."""
        found = super().get_template(name, parent, globals)
        if isinstance(name, str):
            self.used[name] = self.digests[name]
        return found

    def select_template(
        self,
        names: Iterable[str | jinja2.Template] | jinja2.Undefined,
        parent: str | None = None,
        globals: MutableMapping[str, Any] | None = None,  # noqa: A002 - as the library calls it
    ) -> jinja2.Template:
        """Return the first of some templates that there is, and note all their names."""
        known = [] if isinstance(names, jinja2.Undefined) else list(names)
        found = super().select_template(known or names, parent, globals)
        self.used |= {name: self.digests.get(name, "") for name in known if isinstance(name, str)}
        return found


class _Guarded(_Noting, BoundedEnvironment):
    """Templates that reach neither files nor the insides of Python; a name that is not there is an error."""

    def is_safe_attribute(self, obj: Any, attr: str, value: Any) -> bool:
        """Say whether a template may have an attribute; asked a hundred times for each page."""
        if attr.startswith("_") or attr in _INNER:
            return False
        if type(obj) in _OURS:
            return attr not in _OURS[type(obj)]
        is_known = isinstance(obj, _PLAIN) or type(obj).__module__.startswith("jinja2.")
        return is_known and super().is_safe_attribute(obj, attr, value)


def _written(value: Any) -> Any:
    """Return what a template writes out. Raises TypeError for a function, or what is no value."""
    if isinstance(value, (*_PLAIN, jinja2.Undefined)) or type(value) in _OURS or hasattr(value, "__html__"):
        return value
    if type(value).__module__.partition(".")[0] in ("jinja2", "builtins") and not callable(value):
        return value
    raise TypeError(f"a {type(value).__name__} is no text that can be written on a page")


class _Compiled(jinja2.BytecodeCache):
    """Templates as Python runs them, kept while the process lives: a preview draws by them all the time."""

    codes: ClassVar[dict[tuple[type, str, str], CodeType]] = {}  # guarded ones are other code

    def load_bytecode(self, bucket: jinja2.bccache.Bucket) -> None:
        """Give a template its code, if it is known."""
        bucket.code = self.codes.get((type(bucket.environment), bucket.key, bucket.checksum))

    def dump_bytecode(self, bucket: jinja2.bccache.Bucket) -> None:
        """Keep the code of a template."""
        if bucket.code:
            self.codes[type(bucket.environment), bucket.key, bucket.checksum] = bucket.code


class Templates:
    """The templates of a site.

    Jinja2 with autoescape: whatever is not marked as HTML is shown as text.
    """

    def __init__(
        self, folder: Path, functions: Mapping[str, Any], used: dict[str, str | None] | None = None
    ) -> None:
        self.folder = folder / TEMPLATES
        self.used = {} if used is None else used
        self.digests: dict[str, str] = {}  # of the templates that were read
        # Ours need no guard, which takes a fifth of the time.
        environment = _Guarded if self.folder.is_dir() else _Noting
        self.environment = environment(
            loader=_TemplateLoader(self.folder, self.digests),
            autoescape=True,
            undefined=jinja2.StrictUndefined,
            finalize=_written if environment is _Guarded else None,
            trim_blocks=True,
            lstrip_blocks=True,
            keep_trailing_newline=True,
            bytecode_cache=_Compiled(),
            auto_reload=False,  # a renderer lives as long as its files stay the same
        )
        self.environment.used = self.used
        self.environment.digests = self.digests
        self.environment.globals.update(functions)

    def names(self) -> list[str]:
        """Return the names of the site's own templates."""
        own = _OwnLoader(self.folder).list_templates() if self.folder.is_dir() else []
        return sorted(name for name in own if is_text(name) and name.endswith((".html", ".xml", ".txt")))

    def digest(self, name: str) -> str:
        """Return a digest of what a name stands for: a template of the site, a built-in one, or nothing."""
        if name not in self.digests:
            try:
                self.environment.loader.get_source(self.environment, name)  # type: ignore[union-attr]
            except (jinja2.TemplateNotFound, OSError, ValueError):
                return ""
        return self.digests[name]

    def is_own(self, name: str) -> bool:
        """Say whether the site has a template of a name, in place of a built-in one or beside those."""
        return os.path.lexists(self.folder / name)

    def has(self, name: str) -> bool:
        """Say whether there is a template."""
        return name in self.environment.list_templates()

    def drawn(self, name: str, **values: Any) -> Markup:
        """Return a filled template. Raises SiteError with its file and line."""
        try:
            return Markup(self.rendered(name, values))  # noqa: S704 - autoescaped
        except jinja2.TemplateNotFound as error:
            raise SiteError([self.missing(str(error.name))]) from None
        except jinja2.TemplateSyntaxError as error:
            raise SiteError([self.wrong(error.name or name, error.lineno, str(error.message))]) from None
        except ElenchusError as error:  # of a question in the template, or of a template in it
            at, line = self.where(error, name)
            located = [
                replace(each, place=each.place or self.place(at, line), span=None) for each in error.problems
            ]
            raise SiteError(located) from None
        except Exception as error:  # whatever a template does wrong is reported as its own problem
            at, line = self.where(error, name)
            raise SiteError([self.wrong(at, line, str(error))]) from None

    def rendered(self, name: str, values: Mapping[str, Any]) -> str:
        """Return a filled template; one of the site within bounds. Raises what goes wrong in it."""
        environment = self.environment
        is_first = isinstance(environment, BoundedEnvironment) and environment.begin()
        try:
            return environment.get_template(name).render(**values)
        finally:
            if is_first and isinstance(environment, BoundedEnvironment):
                environment.end()

    def function(self, name: str, parameters: Sequence[str], inner: Sequence[str]) -> Callable[..., Markup]:
        """Return a template as a function, with others put in where it includes them.

        What is drawn a hundred times a page would else be looked up and given its surroundings each time.
        """
        text, *others = (self.source(each) for each in (name, *inner))
        for each, other in zip(inner, others, strict=True):
            text = text.replace(f'{{% include "{each}" %}}\n', other)
        macro = f"{{% macro drawn({', '.join(parameters)}) %}}\n{text}{{% endmacro %}}"
        found: Callable[..., Markup] = self.environment.from_string(macro).module.drawn  # type: ignore[attr-defined]
        return found

    def source(self, name: str) -> str:
        """Return the text of a template."""
        return self.environment.loader.get_source(self.environment, name)[0]  # type: ignore[union-attr]

    def problems(self) -> list[Problem]:
        """Return the problems in the form of the site's own templates."""
        found = []
        for name in self.names():
            if name in _RENAMED_FILES:
                message = f"the template {name} is called {_RENAMED_FILES[name]} now"
                found.append(Problem("bad-template", message, "Rename it.", place=self.place(name, 0)))
                continue
            try:
                self.environment.get_template(name)
                found += self.renamed(name)
            except jinja2.TemplateSyntaxError as error:
                found.append(self.wrong(error.name or name, error.lineno, str(error.message)))
            except UnicodeDecodeError:
                found.append(self.wrong(name, 0, "it is not UTF-8"))
            except (jinja2.TemplateNotFound, OSError, RecursionError) as error:
                reason = getattr(error, "strerror", None) or "it leads elsewhere, or is no regular file"
                found.append(self.wrong(name, 0, f"it cannot be read: {reason}"))
        return found

    def renamed(self, name: str) -> Iterator[Problem]:
        """Yield what a template of the site calls by a name that was given up."""
        source, _, _ = _OwnLoader(self.folder).get_source(self.environment, name)
        tree = self.environment.parse(source)
        free = jinja2.meta.find_undeclared_variables(tree)
        used = {node.name: node.lineno for node in tree.find_all(jinja2.nodes.Name)}
        used |= {
            node.attr: node.lineno for node in tree.find_all(jinja2.nodes.Getattr) if node.attr == "empty"
        }
        for old, new in _RENAMED_NAMES.items():
            if old in used and (old in free or old == "empty"):
                message = f"in the template: {old} is called {new} now"
                yield Problem("bad-template", message, f"Write {new}.", place=self.place(name, used[old]))

    def missing(self, name: str, place: Place | None = None) -> Problem:
        """Return the problem of a template that there is not."""
        near = nearest(name, self.environment.list_templates())
        hint = f"Write it in {TEMPLATES}/, or name another."
        return Problem(
            "unknown-template", f"there is no template {quoted(name)}", hint, place=place, near=near
        )

    def wrong(self, name: str, line: int, message: str) -> Problem:
        """Return the problem of a template."""
        return Problem("bad-template", f"in the template: {message}", place=self.place(name, line))

    def place(self, name: str, line: int) -> Place:
        """Return a line of a template."""
        return Place(f"{TEMPLATES}/{name}" if os.path.lexists(self.folder / name) else name, line)

    def where(self, error: Exception, name: str) -> tuple[str, int]:
        """Return the template and the line in which an error was raised."""
        own = set(self.environment.list_templates())
        for frame in reversed(traceback.extract_tb(error.__traceback__)):
            for folder in (self.folder, _BUILT_IN):
                path = Path(frame.filename)
                if path.is_relative_to(folder) and path.relative_to(folder).as_posix() in own:
                    return path.relative_to(folder).as_posix(), frame.lineno or 0
        return name, 0


class _TemplateLoader(jinja2.ChoiceLoader):
    """The templates of a site before the built-in ones; the digest of each is kept as it was read."""

    def __init__(self, folder: Path, digests: dict[str, str]) -> None:
        super().__init__([_OwnLoader(folder), jinja2.FileSystemLoader(_BUILT_IN)])
        self.digests = digests

    def get_source(self, environment: jinja2.Environment, template: str) -> tuple[str, Any, Any]:
        """Return the text of a template. Raises TemplateNotFound."""
        found = super().get_source(environment, template)
        self.digests[template] = sha256(found[0].encode("utf-8", "surrogatepass")).hexdigest()
        return found

    def load(
        self,
        environment: jinja2.Environment,
        name: str,
        globals: MutableMapping[str, Any] | None = None,  # noqa: A002 - as the library calls it
    ) -> jinja2.Template:
        """Return a template, by the one reading whose digest is kept. Raises TemplateNotFound."""
        return jinja2.BaseLoader.load(self, environment, name, globals)


class _OwnLoader(jinja2.FileSystemLoader):
    """The templates of a site's folder, without those that a symbolic link leads to outside it."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder, followlinks=False)
        self.root = folder

    def get_source(
        self,
        environment: jinja2.Environment,  # noqa: ARG002
        template: str,
    ) -> tuple[str, str, Any]:
        """Return the text of a template. Raises TemplateNotFound."""
        path = self.root / template
        try:
            if not is_file(path) or not path.resolve().is_relative_to(self.root.resolve()):
                raise jinja2.TemplateNotFound(template)
            text = read_whole(path).decode()
        except FileNotFoundError:
            raise jinja2.TemplateNotFound(template) from None
        return text, str(path), lambda: True
