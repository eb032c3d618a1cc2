"""What actions ask for: the form of their inputs, and the values entered there."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from flask import request
from flask_babel import gettext as _
from werkzeug.datastructures import MultiDict

from ..common import locale
from ..forms.base import RecordForm
from ..forms.fields import SecretField
from ..pages.actions import Action
from ..pages.changes import ChangeRefused


@dataclass(frozen=True, slots=True)
class Inputs:
    """The values that were entered, by name, and the same by label for the log."""

    values: Mapping[str, Any] = field(default_factory=dict)
    changes: Mapping[str, tuple[None, str]] = field(default_factory=dict)


NO_INPUTS = Inputs()


class InputsRefused(ChangeRefused):
    """What was entered has mistakes, which are at the fields of the `form`."""

    def __init__(self, form: RecordForm) -> None:
        super().__init__(_("Correct what is marked."))
        self.form = form


def entered_inputs(action: Action) -> Inputs:
    """Return the inputs that were entered for an action. Raises InputsRefused for mistakes."""
    if not action.asked:
        return NO_INPUTS
    form = _form(action, MultiDict(request.form))
    if not form.validate():
        raise InputsRefused(form)
    fields = form.value_fields()
    return Inputs(
        {name: each.data for name, each in fields.items()},
        {
            str(each.label.text): (None, each.show(each.data, locale.language()))
            for each in fields.values()
            if each.data is not None and not isinstance(each, SecretField)
        },
    )


def shown_inputs(action: Action, error: ChangeRefused | None) -> RecordForm:
    """Return the form of what an action asks for: as it was entered where that was
    refused."""
    if isinstance(error, InputsRefused):
        return error.form
    typed = MultiDict(request.form) if request.method == "POST" else None
    form = _form(action, typed)
    if error is not None and error.field in form._fields:
        form.add_error(error.field, error.message)
    return form


def _form(action: Action, typed: MultiDict[str, str] | None) -> RecordForm:
    made: type[RecordForm] = type("InputForm", (RecordForm,), dict(action.asked))
    return made(typed)
