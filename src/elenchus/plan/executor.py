"""What runs plans: columns in memory, tables in a database, a cluster; each gives the same answers."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.plan.answer import Answer
    from elenchus.plan.explanation import Explanation, Spent, Verdict
    from elenchus.plan.nodes import Condition, FieldRef, Plan
    from elenchus.schema.subject import Subject

__all__ = ["Executor"]


class Executor(Protocol):
    """Content at an instant, asked by plans.

    ``without`` are the ids of rows that an answer leaves out before offset and limit, because they stand
    elsewhere on its page.
    """

    def run(
        self,
        plan: Plan,
        question: str = "",
        page: int | str = 1,
        *,
        without: Sequence[str] = (),
        in_public: bool = False,
    ) -> Answer:
        """Return one page of an answer. Raises NoSuchPage.

        ``in_public`` keeps what is said beside the rows to what anybody may know.
        """

    def together(
        self, plans: Sequence[Plan], question: str = "", *, without: Sequence[Sequence[str]] = ()
    ) -> list[Answer]:
        """Return the first pages of the answers to plans that differ in nothing but values of conditions.

        ``without`` has for each of them the rows that its answer leaves out; it is empty where none does.
        """

    def ids(self, plan: Plan, *, without: Sequence[str] = ()) -> list[str]:
        """Return the ids of all rows of an answer, on all its pages."""

    def count(self, plan: Plan, *, without: Sequence[str] = ()) -> int:
        """Return the number of all rows of an answer."""

    def matching(self, plan: Plan) -> list[str]:
        """Return the ids of all rows that meet the condition, in no order, whatever cuts the answer."""

    def repeated(self, plan: Plan, without: Sequence[str]) -> list[str]:
        """Return the ids of the rows among those left out that the answer would have."""

    def parted(
        self, plan: Plan, conditions: Sequence[Condition], *, without: Sequence[str] = ()
    ) -> list[list[str]]:
        """Return for each of some further conditions the ids of the rows of an answer that meet it."""

    def counts(
        self, plan: Plan, conditions: Sequence[Condition], *, without: Sequence[str] = ()
    ) -> list[int]:
        """Return for each of some further conditions how many rows of an answer meet it."""

    def explain(self, plan: Plan, question: str = "", *, without: Sequence[str] = ()) -> Explanation:
        """Return why an answer is as it is: what each step leaves and removes."""

    def timed(self, plan: Plan, page: int | str = 1) -> list[Spent]:
        """Return the way to a page of an answer, step by step, gone anew. Raises NoSuchPage."""

    def entries_of(self, kinds: Sequence[str]) -> list[tuple[str, str]]:
        """Return the ids and titles of the entries of some kinds that anybody may see, of all for none."""

    def hidden_terms(self, taxonomy: str) -> frozenset[int]:
        """Return the terms that nobody is shown, by their numbers."""

    def values(self, subject: Subject, name: str, fields: Sequence[FieldRef]) -> list[Any]:
        """Return what a row, by its id, has in some fields: scalars, tuples of them, or None."""

    def judge(self, plan: Plan, name: str, *, without: Sequence[str] = ()) -> Verdict:
        """Return what becomes of a row, by its id, in an answer."""
