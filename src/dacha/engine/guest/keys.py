"""Public keys as the lab file names them."""

from __future__ import annotations

from dacha.engine.workspace import Workspace


def key_line(ws: Workspace, written: str) -> str:
    """The authorized_keys line for one entry of `keys`: a .pub file, or the key itself.

    Raises ValueError with (what, remedy).
    """
    from dacha.formats.openssh import public_line

    if written.startswith(("ssh-", "ecdsa-", "sk-")):
        return public_line(written)
    path = ws.resolve(written)
    try:
        return public_line(path.read_text())
    except FileNotFoundError:
        raise ValueError(f"there is no key file {path}", "make one: ssh-keygen -t ed25519") from None
    except UnicodeDecodeError:
        raise ValueError(f"{path} is no public key", "name a file that ends in .pub") from None
    except OSError as e:
        raise ValueError(f"{path} cannot be read: {e.strerror}", f"make it readable, or name another: {path}") from None
