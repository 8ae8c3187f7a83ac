"""What can be asked of groups: how many rows they have, and the measures of these."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.frozen import replace
from elenchus.measures import all_measures, measure
from elenchus.plan.fields import Fields, NoField
from elenchus.plan.nodes import Across, FieldRef
from elenchus.schema.types import FieldType, Type, describe
from elenchus.values.texts import nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Mapping

    from elenchus.language.nodes import Path

__all__ = ["COUNT", "GroupFields", "across"]

COUNT = FieldRef("count", FieldType(Type.INTEGER), Across("count"))


def across(path: Path, fields: Fields) -> tuple[FieldRef, FieldRef]:
    """Return a measure of a field, and that field. Raises NoField."""
    field = fields.find(replace(path, measure=""))
    record = measure(path.measure)
    name = f"{record.name} of {field.name}"
    if not record.fits(field.type):
        holds = f"{quoted(field.name)} holds {describe(field.type)}"
        message = f"{quoted(f'{record.name} of')} takes {record.types}, and {holds}"
        fitting = [f"{each.name} of" for each in all_measures().values() if each.fits(field.type)]
        hint = f"Here {' and '.join(fitting)} would go."
        raise NoField("wrong-measure", message, hint, path.span)
    return FieldRef(name, record.holds(field.type), Across(record.name, field)), field


class GroupFields(Fields):
    """What a condition after ``having`` may compare: ``count``, measures, and those that have a name."""

    def __init__(self, fields: Fields, named: Mapping[str, Path]) -> None:
        super().__init__(fields.catalog, fields.kinds, fields.subject)
        self.rows = fields
        self.named = named

    def find(self, path: Path) -> FieldRef:
        """Return what a path means for groups. Raises NoField."""
        name = ".".join(path.names)
        if path.measure:
            return across(path, self.rows)[0]
        if name == "count" and not path.counted:
            return COUNT
        if name in self.named:
            return across(self.named[name], self.rows)[0]
        near = nearest(name, ["count", *self.named], most=1)
        hint = (
            ""
            if near
            else "Compare count, or a measure such as sum of FIELD; conditions on rows follow where."
        )
        raise NoField("unknown-field", f"groups have no {quoted(name)}", hint, path.span, near=near)
