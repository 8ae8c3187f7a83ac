"""What was worked out last, for what is asked again and again."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, Generic, TypeVar, overload

if TYPE_CHECKING:
    from collections.abc import Callable, Hashable, Iterator

__all__ = ["Kept", "MadeOf", "cached_property"]

_Result = TypeVar("_Result")
_Source = TypeVar("_Source")


class cached_property(Generic[_Result]):  # noqa: N801 - it is used as a decorator, like the one it replaces
    """An attribute that is worked out when it is first asked for, and then stays.

    Unlike that of ``functools`` in Python 3.11 it has no lock. There, one lock serves all instances of a
    class: two threads that ask different objects for different attributes, each of which needs the other
    one, wait for ever. Here two threads may work out the same value; the last one stays, and they are equal.
    """

    def __init__(self, make: Callable[[Any], _Result]) -> None:
        self.func = make
        self.name = make.__name__
        self.__doc__ = make.__doc__

    def __set_name__(self, owner: type[Any], name: str) -> None:
        """Learn the name of the attribute."""
        self.name = name

    @overload
    def __get__(self, instance: None, owner: type[Any]) -> cached_property[_Result]: ...

    @overload
    def __get__(self, instance: object, owner: type[Any]) -> _Result: ...

    def __get__(self, instance: object | None, owner: type[Any]) -> cached_property[_Result] | _Result:
        """Return the value, which the instance keeps under the same name."""
        if instance is None:
            return self
        found = instance.__dict__[self.name] = self.func(instance)
        return found


class Kept(Generic[_Result]):
    """The results that were asked for last, ``most`` of them. It can be used by several threads."""

    def __init__(self, most: int) -> None:
        self.most = most
        self.results: OrderedDict[Hashable, _Result] = OrderedDict()

    def get(self, key: Hashable, make: Callable[[], _Result]) -> _Result:
        """Return the result of a key, made where it is not kept; what making raises is not kept."""
        try:
            found = self.results[key]
            self.results.move_to_end(key)
        except KeyError:  # never made, or dropped by another thread just now
            found = self.results[key] = make()
            while len(self.results) > self.most:
                self.results.popitem(last=False)
        return found


class MadeOf(Mapping[str, _Result], Generic[_Source, _Result]):
    """A mapping whose values are made of those of another, when they are looked at."""

    __slots__ = ("make", "source")

    def __init__(self, source: Mapping[str, _Source], make: Callable[[_Source], _Result]) -> None:
        self.source = source
        self.make = make

    def __getitem__(self, name: str) -> _Result:
        return self.make(self.source[name])

    def __contains__(self, name: object) -> bool:
        return name in self.source

    def __iter__(self) -> Iterator[str]:
        return iter(self.source)

    def __len__(self) -> int:
        return len(self.source)
