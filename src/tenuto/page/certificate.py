"""A certificate for the page in the network, made by this machine for itself."""

from __future__ import annotations

import datetime
import hashlib
import ipaddress
import socket
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from tenuto.files import MOST_TOML, read_bytes, write_atomically

# Validity, and the time before its end at which another one is made, days. Browsers refuse longer ones.
_GOOD_FOR, _RENEW_BEFORE = 365, 30


class Certificate(NamedTuple):
    """The files of a certificate, and its fingerprint for comparison."""

    certificate: Path
    key: Path
    fingerprint: str


def addresses() -> list[str]:
    """List the addresses of this machine in its networks; nothing is sent for it."""
    found = []
    for family, far in ((socket.AF_INET, "198.51.100.1"), (socket.AF_INET6, "2001:db8::1")):
        with suppress(OSError), socket.socket(family, socket.SOCK_DGRAM) as probe:
            probe.connect((far, 9))  # a datagram socket: this only looks up the route
            found.append(probe.getsockname()[0])
    with suppress(OSError):
        found += [str(one[4][0]) for one in socket.getaddrinfo(socket.gethostname(), None, proto=socket.IPPROTO_TCP)]
    return [one for one in dict.fromkeys(found) if not ipaddress.ip_address(one.partition("%")[0]).is_loopback]


def own_certificate(folder: Path | None = None) -> Certificate:
    """Return the certificate of this machine; a new one is made if it has none, or if its addresses have changed."""
    from cryptography import x509
    from platformdirs import user_data_path

    folder = folder or user_data_path("tenuto") / "page"
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    path, key_path = folder / "certificate.pem", folder / "key.pem"
    names = {socket.gethostname(), f"{socket.gethostname()}.local", "localhost", "127.0.0.1", *addresses()}
    with suppress(OSError, ValueError, x509.ExtensionNotFound):
        kept = x509.load_pem_x509_certificate(read_bytes(path, MOST_TOML))
        alternatives = kept.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        has = {*alternatives.get_values_for_type(x509.DNSName)}
        has |= {str(one) for one in alternatives.get_values_for_type(x509.IPAddress)}
        left = kept.not_valid_after_utc - datetime.datetime.now(datetime.UTC)
        if names <= has and left.days > _RENEW_BEFORE and key_path.exists():
            return Certificate(path, key_path, _fingerprint(kept))
    made = _make(names, path, key_path)
    return Certificate(path, key_path, _fingerprint(made))


def _make(names: set[str], path: Path, key_path: Path) -> x509.Certificate:  # type: ignore[name-defined] # noqa: F821
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec
    from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

    key = ec.generate_private_key(ec.SECP256R1())
    alternatives: list[x509.GeneralName] = []
    for name in sorted(names):
        try:
            alternatives.append(x509.IPAddress(ipaddress.ip_address(name)))
        except ValueError:
            alternatives.append(x509.DNSName(name))
    who = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Tenuto on this robot")])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder().subject_name(who).issuer_name(who).public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(days=1)).not_valid_after(now + datetime.timedelta(days=_GOOD_FOR))
        .add_extension(x509.SubjectAlternativeName(alternatives), critical=False)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    key_path.unlink(missing_ok=True)
    form = serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    write_atomically(key_path, key.private_bytes(*form), private=True)
    write_atomically(path, made.public_bytes(serialization.Encoding.PEM))
    return made


def _fingerprint(certificate: object) -> str:
    from cryptography.hazmat.primitives.serialization import Encoding

    digest = hashlib.sha256(certificate.public_bytes(Encoding.DER)).hexdigest().upper()  # type: ignore[attr-defined]
    return ":".join(digest[place : place + 2] for place in range(0, 32, 2))
