"""Actions of your own: asked about on a page, carried out in a transaction, logged."""

import secrets
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

from flask import abort, flash, redirect, render_template, request
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _
from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError

from ..access.denied import AccessDenied, ChangeDenied
from ..accounts.audit_log import AuditEvent, Recording
from ..accounts.form_tokens import FormTokens
from ..db.errors import classify, not_allowed
from ..editing.outgoing import About, made_messages
from ..editing.own_changes import own_code
from ..editing.record_reader import RecordNotFound
from ..editing.transactions import SaveAborted, owners_of, run_in_transaction
from ..pages import urls
from ..pages.actions import LIST, RECORD, Action, ActionCall
from ..pages.changes import ACTION, ChangeRefused
from ..pages.context import actor, site
from ..pages.routine_actions import RoutineAction
from ..pages.table_context import TableContext
from ..pages.transitions import Transition
from ..pages.urls import left_list, record_address
from ..queries.record import Record, record_plan
from .action_inputs import NO_INPUTS, Inputs, entered_inputs, shown_inputs
from .edit_views import ONCE
from .form_context import saver_of
from .navigation import blueprint, key_or_404, table_or_404
from .routine_calls import Outcome, call_routine
from .transition_forms import (
    AskedFields,
    asked_fields,
    move_record,
    open_transitions,
)

__all__ = ["blueprint"]

DONE = "action"  # the kind of entry in the log


@dataclass(frozen=True, slots=True)
class Target:
    """What an action is about: a record with its key, nothing for a list."""

    key: Mapping[str, Any] = field(default_factory=dict)
    segment: str = ""
    record: Record | None = None


def offered(context: TableContext, where: str) -> list[Action]:
    """Return the actions on records, or on the list, that the user may use on some."""
    if context.reach.is_impersonated:
        return []
    held = {role.name for role in context.reach.roles}
    pages = context.pages
    return [
        each
        for each in (*pages.transitions, *pages.routine_actions, *pages.actions)
        if each.on == where
        and context.may(each.right)
        and (not each.roles or held & {*each.roles})
    ]


def offered_on(
    context: TableContext, connection: Connection, key: Mapping[str, Any]
) -> list[Action]:
    """Return the actions that the user may use on the record with this key."""
    found = offered(context, RECORD)
    table, reach = context.pages.table, context.reach
    rights = {each.right for each in found}
    held = {r for r in rights if reach.reaching(connection, table, key, r)}
    found = [each for each in found if each.right in held]
    moves = [each for each in found if isinstance(each, Transition)]
    if not moves:
        return found
    open_ = open_transitions(context, connection, key, moves)
    return [e for e in found if not isinstance(e, Transition) or e.name in open_]


@blueprint.route(urls.RECORD + urls.ACTION + "<act>", methods=["GET", "POST"])
def act_on_record(name: str, segment: str, act: str) -> ResponseReturnValue:
    """The question before an action on a record, and the action."""
    context = table_or_404(name)
    key = key_or_404(context, segment)
    with site().database.reading() as connection:
        record = record_plan(context).read(connection, key)
        if record is None:
            abort(404)
        action = _chosen(offered_on(context, connection, key), act, context)
    on = Target(key, segment, record)
    return _answer(context, action, record_address(name, segment), on)


@blueprint.route(urls.LIST + urls.ACTION + "<act>", methods=["GET", "POST"])
def act_on_list(name: str, act: str) -> ResponseReturnValue:
    """The question before an action on a list, and the action."""
    context = table_or_404(name)
    action = _chosen(offered(context, LIST), act, context)
    return _answer(context, action, left_list(name), Target())


def _chosen(found: list[Action], name: str, context: TableContext) -> Action:
    """Return the action of this name: what there is none of does not exist, what the
    user may not is refused."""
    for each in found:
        if each.name == name:
            return each
    pages = context.pages
    every = (*pages.actions, *pages.routine_actions, *pages.transitions)
    known = any(each.name == name for each in every)
    abort(403 if known else 404)


def _answer(
    context: TableContext,
    action: Action,
    home: str,
    on: Target,
) -> ResponseReturnValue:
    error: ChangeRefused | None = None
    if request.method == "POST":
        sent, token = FormTokens(site().users.store), request.form.get(ONCE, "")
        if token and sent.claim(token) is not None:
            flash(_("This form was already sent; it was carried out once."))
            return redirect(home)
        location, done = "", None
        try:
            inputs = entered_inputs(action)
            done = run_in_transaction(
                lambda connection, recording: carry_out(
                    context, action, connection, recording, on, inputs
                )
            )
            location = done.address or home
        except SaveAborted as aborted:
            error = ChangeRefused(aborted.message)
            error.status = 503
        except ChangeRefused as refused:
            error = refused
        except (RecordNotFound, ChangeDenied, AccessDenied):
            abort(403)
        except DBAPIError as told:
            error = ChangeRefused(not_allowed(classify(told)))
            error.status = 409
        finally:
            if token:
                with suppress(DBAPIError):  # it is settled by itself after a while
                    sent.settle(token, location)
        if done is not None and done.result is not None:
            return _shown(context, action, home, on, done)
        if done is not None:
            flash(done.message)
            return redirect(location)
    asked = AskedFields()
    if isinstance(action, Transition):
        asked = asked_fields(context, action, on.key, error)
    elif action.asked:
        asked = AskedFields(shown_inputs(action, error))
    is_at_field = error is not None and asked.form and error.field in asked.form
    page = render_template(
        context.pages.templates("action.html"),
        pages=context.pages,
        action=action,
        record=on.record,
        refused="" if error is None or is_at_field else error.message,
        address=home,
        form=asked.form,
        seen=asked.seen,
        once=secrets.token_urlsafe(12),
    )
    return page, 200 if error is None else error.status


def _shown(
    context: TableContext, action: Action, home: str, on: Target, done: Outcome
) -> str:
    return render_template(
        context.pages.templates("action-result.html"), pages=context.pages,
        action=action, record=on.record, address=home, done=done,
    )  # fmt: skip


def carry_out(
    context: TableContext,
    action: Action,
    connection: Connection,
    recording: Recording,
    on: Target,
    inputs: Inputs = NO_INPUTS,
) -> Outcome:
    """Call the method of an action, or the routine, and record that it was done. Raises
    ChangeRefused."""
    pages, reach = context.pages, context.reach
    saver = saver_of(context, ACTION)
    values: Mapping[str, Any] = {}
    if on.record is not None:
        reach.lock(connection, pages.table, on.key)
        if not reach.reaching(connection, pages.table, on.key, action.right):
            abort(403)
        values = saver.own.stored(connection, on.key)

    def edit(changed: Mapping[str, Any]) -> None:
        if on.record is None:
            raise ChangeRefused(_("An action on a list changes no single record."))
        outcome = saver.set_values(connection, on.key, changed)
        event = AuditEvent("edit", pages.name, on.segment, changes=outcome.changes,
                           texts=outcome.texts)  # fmt: skip
        recording.mean(actor(), _entitled(context, connection, event, on))

    if isinstance(action, Transition):
        outcome = move_record(context, connection, on.key, action)
        event = AuditEvent("edit", pages.name, on.segment, description=str(action.label),
                           changes=outcome.changes, texts=outcome.texts)  # fmt: skip
        recording.mean(actor(), _entitled(context, connection, event, on))
        return Outcome(str(_("%(action)s: done.", action=action.label)))
    event = AuditEvent(DONE, pages.name, on.segment, description=str(action.label),
                       changes=inputs.changes)  # fmt: skip
    if isinstance(action, RoutineAction):
        outcome_ = call_routine(context, action, connection, values, inputs.values)
        recording.mean(actor(), _entitled(context, connection, event, on))
        return outcome_
    call = ActionCall(
        connection=connection,
        user=actor(),
        roles=tuple(role.name for role in reach.roles),
        key=dict(on.key),
        values=values,
        inputs=inputs.values,
        _edit=edit,
    )
    with own_code(pages.name, action.name):
        said = getattr(pages, action.name)(call)
        about = About(call.user.name, pages.name, on.segment, str(on.record.title) if on.record else "")  # fmt: skip
        recording.send(made_messages(call.sent, about))
    recording.mean(actor(), _entitled(context, connection, event, on))
    said = str(said or _("%(action)s: done.", action=action.label))
    return Outcome(said, call.address)


def _entitled(
    context: TableContext, connection: Connection, event: AuditEvent, on: Target
) -> AuditEvent:
    if on.record is None:
        return event
    owners = owners_of(context.on(connection), on.record.values)
    return event.entitled(on.record.title, owners)
