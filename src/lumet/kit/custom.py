"""The names that your own code in `custom/` imports. They stay as they are.

from ..kit.custom import Action, ActionCall, Change
from ..tables.light import LightForm, LightPages
"""

from .accounts.audit_log import Actor
from .common.settings import OwnSetting
from .forms import (
    ChoiceField,
    DateField,
    DateTimeField,
    DecimalField,
    IntegerField,
    LongTextField,
    Matches,
    NumberRange,
    Required,
    TextField,
    YesNoField,
)
from .pages.actions import LIST, RECORD, Action, ActionCall
from .pages.changes import (
    ACTION,
    ADD,
    BULK,
    DELETE,
    EDIT,
    FORM,
    RESTORE,
    ROW,
    Change,
    ChangeRefused,
)
from .pages.computed_columns import ComputedColumn
from .pages.menu import MenuEntry
from .pages.messages import Email, UsersOf, Webhook
from .pages.table_pages import TablePages
from .web.own_pages import is_rehearsal, own_pages, reading, rows, setting

__all__ = [
    "ACTION",
    "ADD",
    "BULK",
    "DELETE",
    "EDIT",
    "FORM",
    "LIST",
    "RECORD",
    "RESTORE",
    "ROW",
    "Action",
    "ActionCall",
    "Actor",
    "Change",
    "ChangeRefused",
    "ChoiceField",
    "ComputedColumn",
    "DateField",
    "DateTimeField",
    "DecimalField",
    "Email",
    "IntegerField",
    "LongTextField",
    "Matches",
    "MenuEntry",
    "NumberRange",
    "OwnSetting",
    "Required",
    "TablePages",
    "TextField",
    "UsersOf",
    "Webhook",
    "YesNoField",
    "is_rehearsal",
    "own_pages",
    "reading",
    "rows",
    "setting",
]
