"""What Elenchus keeps for its user outside every site: a key, and the hosts that may get a password.

A site can come from somebody else, so what only this user may write lies where no site reaches.
"""

from __future__ import annotations

import hmac
import json
import os
import sys
from contextlib import suppress
from hashlib import sha256
from pathlib import Path

from elenchus.files import read_whole, write_whole
from elenchus.values.addresses import is_of_this_machine

__all__ = ["CLIENT_PASSWORD", "allow_host", "is_allowed", "not_allowed", "signed", "state_folder"]

CLIENT_PASSWORD = "PGPASSWORD"  # noqa: S105 - the variable that every client of PostgreSQL reads

_KEY = "key"
_KEY_BYTES = 32
_HOSTS = "hosts.json"
_LARGEST = 2**20


def state_folder() -> Path:
    """Return the folder of this user's data, which may not exist yet (XDG Base Directory 0.8)."""
    if sys.platform == "win32":
        base = Path(os.environ.get("LOCALAPPDATA") or Path.home())
    elif sys.platform == "darwin":
        base = Path.home() / "Library" / "Application Support"
    else:
        base = Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state")
    return base / "elenchus"


def signed(content: bytes, *, make_key: bool = False) -> str:
    """Return the HMAC-SHA256 of some bytes under this user's key, in hexadecimal; empty without a key.

    With ``make_key`` a missing key is made first, unless the folder cannot be written.
    """
    key = _key() or (_new_key() if make_key else b"")
    return hmac.new(key, content, sha256).hexdigest() if key else ""


def _key() -> bytes:
    with suppress(OSError, RuntimeError):  # RuntimeError: there is no home folder
        key = read_whole(state_folder() / _KEY, _LARGEST)
        return key if len(key) == _KEY_BYTES else b""
    return b""


def _new_key() -> bytes:
    with suppress(OSError, RuntimeError):
        folder = state_folder()
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        part = folder / f".{_KEY}.{os.getpid()}-{os.urandom(4).hex()}"
        handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "wb") as file:
            file.write(os.urandom(_KEY_BYTES))
        try:
            os.link(part, folder / _KEY)  # of two runs at once the first one wins
        except FileExistsError:
            if not _key():  # what is there is no key
                part.replace(folder / _KEY)
        except OSError:  # a file system without hard links
            part.replace(folder / _KEY)
        part.unlink(missing_ok=True)
    return _key()


def is_allowed(variable: str, host: str) -> bool:
    """Say whether a variable may be used for a server: one of this machine, or one that this user allowed."""
    return is_of_this_machine(host) or (variable, host) in _allowed()


def not_allowed(variable: str, host: str) -> tuple[str, str]:
    """Return why a variable is not used for a server that a site names, and what helps."""
    hint = f"If you trust that server: elenchus allow {variable} {host}."
    return f"the variable {variable} was never used for {host}", hint


def _allowed() -> set[tuple[str, str]]:
    """Return the pairs of a variable and a host that this user has allowed to meet."""
    try:
        found = json.loads(read_whole(state_folder() / _HOSTS, _LARGEST))
        return {(str(variable), str(host)) for variable, host in found}
    except (OSError, RuntimeError, ValueError, TypeError, RecursionError):
        return set()


def allow_host(variable: str, host: str) -> None:
    """Remember that a variable of the environment may be used for a host. Raises OSError."""
    pairs = sorted(_allowed() | {(variable, host)})
    write_whole(state_folder() / _HOSTS, json.dumps(pairs).encode())
