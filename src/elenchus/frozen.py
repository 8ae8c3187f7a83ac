"""Values that never change and are compared by what they hold, in classes that cost little to define.

A class that inherits from :class:`Frozen` lists its members as annotations, with defaults where they have
any. It is what ``@dataclass(frozen=True, slots=True)`` makes, but for its code: the constructor of a class is
made when the first of its instances is, and comparing, hashing and printing are shared by all. Most
runs of the program use few of its many classes, and would pay for all of them at each start.
"""

from __future__ import annotations

from operator import attrgetter
from typing import TYPE_CHECKING, Any, ClassVar, TypeVar, dataclass_transform

if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["Frozen", "Ordered", "Working", "knowing", "member", "names_of_members", "replace", "values_of"]

_Instance = TypeVar("_Instance")


class _Member:
    """What is to be known of a member beside its name: its default, and whether it counts for equality."""

    __slots__ = ("compare", "default", "factory")

    def __init__(self, default: Any, factory: Callable[[], Any] | None, compare: bool) -> None:  # noqa: FBT001
        self.default = default
        self.factory = factory
        self.compare = compare


_NOTHING: Any = object()  # the default of a member that has none


def member(
    *, default: Any = _NOTHING, default_factory: Callable[[], Any] | None = None, compare: bool = True
) -> Any:
    """Return what stands behind a member whose default is made for each instance, or that is not compared."""
    return _Member(default, default_factory, compare)


def knowing(instance: _Instance, **known: Any) -> _Instance:
    """Return an instance with cached properties that need not be worked out any more."""
    vars(instance).update(known)
    return instance


class _Defining(type):
    """Turns the annotations of a class into its members."""

    def __new__(mcs, name: str, bases: tuple[type, ...], space: dict[str, Any]) -> _Defining:
        """Define a class: its members are those of its base, then its own."""
        inherited: dict[str, _Member] = {}
        for base in reversed(bases):
            inherited |= getattr(base, "_members", {})
        own: dict[str, _Member] = {}
        for each, annotation in space.get("__annotations__", {}).items():
            if not str(annotation).startswith("ClassVar"):
                given = space.pop(each, _NOTHING)
                own[each] = given if isinstance(given, _Member) else _Member(given, None, compare=True)
        members = {**inherited, **own}
        space |= {
            "__slots__": space.get("__slots__", tuple(own)),
            "__match_args__": tuple(members),
            "_members": members,
        }
        compared = [each for each, known in members.items() if known.compare]
        space["_key"] = staticmethod(_key_of(compared))
        space["_values"] = staticmethod(_key_of([*members, "__class__"]))  # two at least: a tuple
        space.setdefault("__init__", _first_made)
        return super().__new__(mcs, name, bases, space)


def _first_made(self: Frozen, *values: Any, **named: Any) -> None:
    """Give the class of an instance its constructor, and call that: what each class has until then."""
    _define(type(self))
    type(self).__init__(self, *values, **named)


def _key_of(names: list[str]) -> Callable[[Any], Any]:
    """Return the function from an instance to what it is compared by."""
    return attrgetter(*names) if names else lambda _: ()


@dataclass_transform(frozen_default=True, field_specifiers=(member,))
class Frozen(metaclass=_Defining):
    """The base of values; see the module."""

    _members: ClassVar[dict[str, _Member]]
    _key: ClassVar[Callable[[Any], Any]]
    _values: ClassVar[Callable[[Any], tuple[Any, ...]]]
    __slots__ = ("_hashed",)

    def __setattr__(self, name: str, value: object) -> None:
        raise AttributeError(f"{type(self).__name__} never changes: {name} cannot become {value!r}")

    def __delattr__(self, name: str) -> None:
        raise AttributeError(f"{type(self).__name__} never changes: {name} cannot be taken away")

    def __eq__(self, other: object) -> bool:
        if other.__class__ is not self.__class__:
            return NotImplemented
        return bool(_compared(self) == _compared(other))

    def __hash__(self) -> int:
        found: int | None = getattr(self, "_hashed", None)
        if found is None:  # worked out once: plans are deep, and asked for again and again
            found = hash(_compared(self))
            object.__setattr__(self, "_hashed", found)
        return found

    def __repr__(self) -> str:
        told = (name for name, known in self._members.items() if known.compare)
        inner = ", ".join(f"{name}={getattr(self, name)!r}" for name in told)
        return f"{type(self).__name__}({inner})"

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), tuple(getattr(self, name) for name in self._members)


class Working(Frozen):
    """The base of values that keep what they have worked out, by ``cached_property``."""

    __slots__ = ("__dict__",)


class Ordered(Frozen):
    """The base of values that also come before and after one another, by their members in order."""

    def __lt__(self, other: Ordered) -> bool:
        return bool(_compared(self) < _compared(other))

    def __le__(self, other: Ordered) -> bool:
        return bool(_compared(self) <= _compared(other))

    def __gt__(self, other: Ordered) -> bool:
        return bool(_compared(self) > _compared(other))

    def __ge__(self, other: Ordered) -> bool:
        return bool(_compared(self) >= _compared(other))


def _compared(value: Frozen) -> Any:
    """Return what a value is compared by."""
    return type(value)._key(value)  # noqa: SLF001 - of our own base


def _define(cls: type[Frozen]) -> None:
    """Give a class its constructor: each member is written by its own slot, the only way past the guard."""
    parameters, lines, space = [], [], {"NOTHING": _NOTHING}
    for name, known in cls._members.items():
        space[f"set_{name}"] = getattr(cls, name).__set__
        value = name
        if known.factory is not None:
            space[f"make_{name}"] = known.factory
            parameters.append(f"{name}=NOTHING")
            value = f"make_{name}() if {name} is NOTHING else {name}"
        elif known.default is not _NOTHING:
            space[f"default_{name}"] = known.default
            parameters.append(f"{name}=default_{name}")
        else:
            parameters.append(name)
        lines.append(f"    set_{name}(self, {value})")
    code = f"def __init__(self, {', '.join(parameters)}):\n" + "\n".join(lines or ["    pass"])
    exec(code, space)  # noqa: S102 - names of members, which are identifiers of our own source
    cls.__init__ = space["__init__"]  # type: ignore[method-assign]


def replace(value: _Instance, /, **changes: Any) -> _Instance:
    """Return a frozen value, or a dataclass, with other values for some of its members."""
    if not isinstance(value, Frozen):
        import dataclasses

        return dataclasses.replace(value, **changes)  # type: ignore[type-var]
    kept = {name: getattr(value, name) for name in names_of_members(type(value)) if name not in changes}
    return type(value)(**kept, **changes)


def values_of(value: Frozen) -> tuple[Any, ...]:
    """Return the values of all members, in their order."""
    return type(value)._values(value)[:-1]  # noqa: SLF001 - of our own base


def names_of_members(cls: type[Frozen]) -> tuple[str, ...]:
    """Return the names of the members of a class, in their order."""
    return tuple(cls._members)
