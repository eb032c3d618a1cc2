"""The commands of the application: serve, the worker that sends what is in the outbox,
and the management of users."""

import argparse
import contextlib
import errno
import getpass
import json
import logging
import os
import signal
import socket
import sys
from collections.abc import Callable, Sequence

import waitress
from flask import Flask

from ..access.roles import Attribute
from ..accounts.outbox import Outbox
from ..accounts.passwords import AccountError
from ..accounts.preferences import COLUMNS, WIDTHS, read_widths
from ..accounts.shared_choices import all_shared, share
from ..accounts.store import open_store
from ..accounts.user_rows import AccountPolicy
from ..accounts.users import Users
from ..common.exceptions import CannotStart
from ..common.settings import LOCAL_HOSTS, STATE, read_settings, state_folder
from ..contract import ANYONE
from ..db.engine import Database
from ..delivery.worker import Worker
from .request_limits import MAX_HEADERS_BYTES

HOST = "127.0.0.1"
PORT = 8040
THREADS = 4
PORTS_TRIED = 40
CONNECTIONS = 1_000  # open at once, those that say nothing included
IDLE_SECONDS = 20  # behind which a connection that says nothing is closed
_ENDING = (signal.SIGTERM, getattr(signal, "SIGHUP", signal.SIGTERM))
EVERY_ADDRESS = ("0.0.0.0", "::", "")


def run(
    package: str,
    name: str,
    create_app: Callable[[], Flask],
    roles: Sequence[str],
    arguments: Sequence[str] | None = None,
    attributes: Sequence[Attribute] = (),
) -> int:
    """Carry out one command; return its exit status: 0, 2 for wrong use, 3 when it
    cannot run."""
    given = _parser(package, name, roles).parse_args(arguments)
    try:
        if given.state:
            os.environ[STATE] = given.state
        if given.command == "serve":
            return _serve(create_app, given.host, given.port, not given.no_worker)
        settings = read_settings()
        store = open_store(
            settings.accounts_url, settings.folder, settings.database_url
        )
        if given.command == "worker":
            return _work(Worker(Outbox(store, settings.outbox_days), settings.given), given.once)  # fmt: skip
        if given.command == "columns":
            return _columns(store, given.forget)
        words = (name, package, *roles)
        users = Users(store, AccountPolicy(settings.password_length, words))
        return _user_command(users, given, attributes)
    except AccountError as error:
        print(error, file=sys.stderr)
        return 2
    except CannotStart as error:
        print(error, file=sys.stderr)
        return 3


def _parser(package: str, name: str, roles: Sequence[str]) -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog=f"python -m {package}", description=name)
    parser.add_argument(
        "--state", metavar="FOLDER",
        help="folder of .env, the users and the uploads (default: the current folder)",
    )  # fmt: skip
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")
    serve = commands.add_parser("serve", help="serve the application")
    serve.add_argument("--host", default=HOST, help=f"address to listen on ({HOST})")
    serve.add_argument("--port", type=int, default=PORT, help=f"port ({PORT})")
    serve.add_argument(
        "--no-worker", action="store_true",
        help="send nothing from the outbox: a worker of its own does",
    )  # fmt: skip
    worker = commands.add_parser("worker", help="send what is in the outbox")
    worker.add_argument(
        "--once", action="store_true", help="send what is due now, and end"
    )
    columns = commands.add_parser(
        "columns", help="print the columns that were chosen for everyone, as JSON"
    )
    columns.add_argument(
        "--forget", action="append", default=[], metavar="TABLE",
        help="forget those of a table, which are as decided again",
    )  # fmt: skip
    user = commands.add_parser("user", help="manage users")
    actions = user.add_subparsers(dest="action", required=True, metavar="ACTION")
    add = actions.add_parser("add", help="add a user; asks for a password")
    add.add_argument("name")
    add.add_argument(
        "--role", action="append", required=True, choices=sorted({*roles} - {ANYONE})
    )
    add.add_argument(
        "--set", action="append", default=[], metavar="NAME=VALUE", dest="attributes",
        help="an attribute of the user that access.toml declares",
    )  # fmt: skip
    change = actions.add_parser("password", help="give a user a new password")
    change.add_argument("name")
    for parser_ in (add, change):
        parser_.add_argument(
            "--password-stdin", action="store_true", help="read it from standard input"
        )
    actions.add_parser("disable", help="disable a user").add_argument("name")
    actions.add_parser("enable", help="enable a user").add_argument("name")
    actions.add_parser("list", help="list the users")
    return parser


def _columns(store: Database, forgotten: Sequence[str]) -> int:
    """Print the columns of lists that were chosen for everyone, with their widths, or
    forget some."""
    for table in forgotten:
        share(store, f"{COLUMNS}{table}", "")
        share(store, f"{WIDTHS}{table}", "")
    if forgotten:
        return 0
    columns, widths = all_shared(store, COLUMNS), all_shared(store, WIDTHS)
    found = {
        table: {
            "columns": columns.get(table, "").split(","),
            "widths": read_widths(widths.get(table, "")),
        }
        for table in {**columns, **widths}
    }
    print(json.dumps(found))
    return 0


def _user_command(
    users: Users, given: argparse.Namespace, attributes: Sequence[Attribute]
) -> int:
    if given.action == "list":
        for account in users.accounts():
            state = "  (disabled)" if account.disabled else ""
            print(f"{account.name}  {', '.join(account.roles)}{state}")
    elif given.action == "disable":
        users.disable(given.name)
        print(f"{given.name} can no longer sign in.")
    elif given.action == "enable":
        users.enable(given.name)
        print(f"{given.name} can sign in again.")
    elif given.action == "add":
        held = _attributes(given.attributes, attributes)
        users.add(given.name, _password(given.password_stdin), given.role, held)
        print(f"Added {given.name} ({', '.join(given.role)}).")
    else:
        users.set_password(given.name, _password(given.password_stdin))
        print(f"{given.name} has a new password; all sessions have ended.")
    return 0


def _attributes(given: Sequence[str], declared: Sequence[Attribute]) -> dict[str, str]:
    """Return attributes from NAME=VALUE words. Raises AccountError for others than
    declared."""
    known = {attribute.name: attribute for attribute in declared}
    found = {}
    for word in given:
        name, _, value = word.partition("=")
        if name not in known:
            there = ", ".join(known) or "none"
            raise AccountError(f"There is no attribute {name}. Available: {there}.")
        try:
            found[name] = known[name].parse(value)
        except (ValueError, ArithmeticError):
            raise AccountError(
                f"{name} takes a value of the type {known[name].kind}."
            ) from None
    return found


def _password(from_input: bool) -> str:
    if from_input:
        return sys.stdin.readline().rstrip("\r\n")
    if not sys.stdin.isatty():
        raise AccountError(
            "There is no terminal to ask for a password: use --password-stdin."
        )
    first = getpass.getpass("Password: ")
    if getpass.getpass("Once more: ") != first:
        raise AccountError("The passwords do not match; nothing was changed.")
    return first


def _work(worker: Worker, is_once: bool) -> int:
    """Send what is due, once or until the program is told to end."""
    _log_to_terminal()
    if is_once:
        print(f"Sent: {worker.send_due()}")
        return 0
    for number in _ENDING:
        signal.signal(number, lambda *_: worker.end())
    print("Sending what is in the outbox  (Ctrl C ends)", flush=True)
    with contextlib.suppress(KeyboardInterrupt):
        worker.run()
    return 0


def _serve(
    create_app: Callable[[], Flask], host: str, port: int, with_worker: bool = True
) -> int:
    listener = _listen(host, port)
    app = create_app()
    if with_worker:
        Worker(app.extensions["site"].log.outbox, read_settings().given).start()
    _trust(app, host)
    logging.getLogger("waitress.queue").setLevel(logging.ERROR)
    _log_to_terminal()
    if host not in LOCAL_HOSTS and not app.config["SESSION_COOKIE_SECURE"]:
        print(
            "Passwords are sent unencrypted: put a proxy with HTTPS in front, and set HTTPS=1."
        )
    address = _address(*listener.getsockname()[:2])
    for number in _ENDING:
        signal.signal(number, _end)
    with contextlib.suppress(KeyboardInterrupt):
        print(f"Serving at {address}  (Ctrl C ends)")
        print(f"State in {state_folder()}", flush=True)
        _say_how_to_begin(app, address)
        waitress.serve(
            app,
            sockets=[listener],
            threads=THREADS,
            ident=None,
            connection_limit=CONNECTIONS,
            channel_timeout=IDLE_SECONDS,
            cleanup_interval=IDLE_SECONDS // 4,
            asyncore_use_poll=True,
            max_request_header_size=MAX_HEADERS_BYTES,
            # whom they are believed is decided by the application: see PROXY
            clear_untrusted_proxy_headers=False,
        )
    return 0


class LineFormatter(logging.Formatter):
    """Writes each entry so that nothing in it, an address or an error's text, can pass
    for another entry or move a terminal's cursor: further lines are set in, and control
    characters are written as escapes."""

    def format(self, record: logging.LogRecord) -> str:
        first, *rest = super().format(record).splitlines() or [""]
        lines = [first, *[f"    {line}" for line in rest]]
        return "\n".join(map(_visible, lines))


def _visible(line: str) -> str:
    return "".join(
        each
        if each.isprintable() or each == "\t"
        else each.encode("unicode_escape").decode()
        for each in line
    )


def _log_to_terminal() -> None:
    handler = logging.StreamHandler()
    handler.setFormatter(LineFormatter("%(asctime)s %(levelname)s %(message)s"))
    logging.basicConfig(level=logging.WARNING, handlers=[handler])


def _end(number: int, frame: object) -> None:
    raise KeyboardInterrupt


def _address(host: str, port: int) -> str:
    return f"http://[{host}]:{port}/" if ":" in host else f"http://{host}:{port}/"


def _say_how_to_begin(app: Flask, address: str) -> None:
    users: Users = app.extensions["users"]
    administrators = [
        r.name for r in app.extensions["site"].roles.values() if r.manages_users
    ]
    if administrators and users.is_empty():
        token = users.invitations.invite_first(administrators[0])
        print("There is no user yet. Create the first one within a day at:")
        print(f"  {address}setup/{token}", flush=True)


def _trust(app: Flask, host: str) -> None:
    """Let the application be reached by the address it listens on; say what to do where
    that is every address of the machine."""
    trusted: list[str] = app.config["TRUSTED_HOSTS"]
    if host not in EVERY_ADDRESS:
        trusted.append(f"[{host}]" if ":" in host else host)
    elif all(name in LOCAL_HOSTS for name in trusted):
        print("From other machines it answers only under the names in TRUSTED_HOSTS.")


def _listen(host: str, port: int) -> socket.socket:
    try:
        return _bind(host, port)
    except OSError as error:
        if error.errno == errno.EADDRINUSE:
            free = _next_free(host, port + 1)
            advice = (
                f"Free is {free}: --port {free}" if free else "Choose another: --port"
            )
            raise CannotStart(f"Port {port} is in use.\n  {advice}") from error
        if error.errno == errno.EACCES:
            text = f"Port {port} requires more privileges.\n  Choose one above 1023: --port {PORT}"
            raise CannotStart(text) from error
        raise CannotStart(
            f"{host}:{port} cannot be listened on: {error.strerror}."
        ) from error
    except OverflowError as error:
        raise CannotStart(f"{port} is no port: choose one from 1 to 65535.") from error


def _bind(host: str, port: int) -> socket.socket:
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    listener = socket.socket(family, socket.SOCK_STREAM)
    try:
        if sys.platform != "win32":  # there it would let two programs share a port
            listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        listener.bind((host, port))
        listener.listen(128)
    except BaseException:
        listener.close()
        raise
    return listener


def _next_free(host: str, first: int) -> int | None:
    for port in range(first, min(first + PORTS_TRIED, 65_536)):
        try:
            _bind(host, port).close()
        except OSError:
            continue
        return port
    return None
