"""What was worked out last, for what is asked again and again."""

from __future__ import annotations

from collections import OrderedDict
from typing import TYPE_CHECKING, Generic, TypeVar

if TYPE_CHECKING:
    from collections.abc import Callable, Hashable

__all__ = ["Kept"]

_Result = TypeVar("_Result")


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
