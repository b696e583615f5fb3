"""Remote desktop connection files: one setting a line, `name:type:value`; signed if a certificate is given, so that a
client can verify their origin."""

from __future__ import annotations

import struct
from base64 import b64encode
from collections.abc import Sequence
from typing import TYPE_CHECKING

from dacha.core.errors import BadValue
from dacha.core.lab.client import WINDOW
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import endpoint
from dacha.formats.handout.way_in import WayIn

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey
    from cryptography.x509 import Certificate

# The settings that a signature covers if a file has them, in the order of the signed text.
_COVERED = ("Full Address", "Alternate Full Address", "EnableCredSspSupport", "Prompt For Credentials",
            "Authentication Level", "RedirectClipboard")  # fmt: skip
_LINE = 64


class Signer(NamedTuple):
    """A signer: a private key, its certificate, and the certificates of its issuers."""

    key: RSAPrivateKey | EllipticCurvePrivateKey
    certificate: Certificate
    chain: Sequence[Certificate] = ()


def rdp_file(way: WayIn, signer: Signer | None = None) -> bytes:
    """The file for one way; the client asks for the password, and warns if the certificate is not trusted."""
    width, height = way.client.size or WINDOW
    settings: list[tuple[str, str | int]] = [
        ("full address", str(endpoint(way.address, way.port))),
        ("username", way.user),
        ("domain", way.client.domain),
        ("prompt for credentials", 1),
        ("authentication level", 2),
        ("enablecredsspsupport", 1),
        ("screen mode id", 2 if way.client.full_screen else 1),
        ("use multimon", int(way.client.all_screens)),
        ("desktopwidth", width),
        ("desktopheight", height),
        ("dynamic resolution", 1),
        ("redirectclipboard", 1),
        ("audiomode", {"client": 0, "guest": 1, "off": 2}[way.client.sound]),
    ]
    lines = [f"{key}:{'s' if isinstance(value, str) else 'i'}:{value}" for key, value in settings if value != ""]
    if signer is None:
        return "\r\n".join([*lines, ""]).encode()
    # Without it, an attacker could add another address beside the signed one.
    lines.append(f"alternate full address:s:{endpoint(way.address, way.port)}")
    return ("\ufeff" + "\r\n".join([*lines, *_signature(lines, signer), ""])).encode("utf-16-le")


def _signature(lines: Sequence[str], signer: Signer) -> list[str]:
    """The two lines of a signature: the covered settings, and a detached PKCS #7 signature (RFC 2315) without
    attributes of their text in UTF-16, after a header of three numbers: a version, one, and its length."""
    from cryptography.hazmat.primitives.hashes import SHA256
    from cryptography.hazmat.primitives.serialization import Encoding
    from cryptography.hazmat.primitives.serialization.pkcs7 import PKCS7Options, PKCS7SignatureBuilder

    by_name = {line.partition(":")[0]: line for line in lines}
    covered = [name for name in _COVERED if name.lower() in by_name]
    scope = f"signscope:s:{','.join(covered)}"
    text = "\r\n".join([*(by_name[name.lower()] for name in covered), scope, "\0"])
    made = PKCS7SignatureBuilder().set_data(text.encode("utf-16-le"))
    made = made.add_signer(signer.certificate, signer.key, SHA256())
    for certificate in signer.chain:
        made = made.add_certificate(certificate)
    options = [PKCS7Options.Binary, PKCS7Options.DetachedSignature, PKCS7Options.NoAttributes]
    signature = made.sign(Encoding.DER, options)
    packed = b64encode(struct.pack("<III", 0x00010001, 1, len(signature)) + signature).decode()
    shown = "  ".join(packed[n : n + _LINE] for n in range(0, len(packed), _LINE))
    return [scope, f"signature:s:{shown}"]


def signer(pem: bytes, passphrase: bytes | None) -> Signer:
    """The signer in a file with a private key, its certificate and further ones (PEM, RFC 7468). Raises BadValue;
    LookupError if the key requires a passphrase and none is given."""
    from cryptography.hazmat.primitives.asymmetric import ec, rsa
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, load_pem_private_key
    from cryptography.x509 import load_pem_x509_certificates

    both = "create a PEM file with both: cat key.pem certificate.pem > signer.pem"
    try:
        certificates = load_pem_x509_certificates(pem)
    except ValueError:
        raise BadValue("it contains no certificate", both) from None
    try:
        key = load_pem_private_key(pem, passphrase)
    except TypeError:
        raise LookupError("its private key requires a passphrase") from None
    except ValueError:
        if passphrase is not None:
            raise BadValue("wrong passphrase for its private key", "try again") from None
        raise BadValue("it contains no private key", both) from None
    if not isinstance(key, rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey):
        raise BadValue(
            "its key is of a type that cannot sign .rdp files", "use an RSA key, or a NIST elliptic curve key"
        )
    raw = key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    mine = [
        c for c in certificates if c.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo) == raw
    ]
    if not mine:
        raise BadValue("its certificate does not match its private key", both)
    return Signer(key, mine[0], [c for c in certificates if c is not mine[0]])
