"""What was worked out last, for what is asked again and again."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Mapping
from typing import TYPE_CHECKING, Generic, TypeVar

if TYPE_CHECKING:
    from collections.abc import Callable, Hashable, Iterator

__all__ = ["Kept", "MadeOf"]

_Result = TypeVar("_Result")
_Source = TypeVar("_Source")


class Kept(Generic[_Result]):
    """The results that were asked for last, ``most`` of them. It can be used by several threads."""

    def __init__(self, most: int) -> None:
        self.most = most
        self.results: OrderedDict[Hashable, _Result] = OrderedDict()

    def get(self, key: Hashable, make: Callable[[], _Result]) -> _Result:
        """Return the result of a key, made where it is not kept; what making raises is not kept."""
        try:
            found = self.results.pop(key)
        except KeyError:
            found = make()
        self.results[key] = found  # as the newest
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
