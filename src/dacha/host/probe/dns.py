"""Query a name server, like a guest does."""

from __future__ import annotations


def addresses_of(name: str, server: str, timeout_s: float) -> tuple[str, ...] | None:
    """The IPv4 addresses that a server has for a name; None if it does not respond."""
    import dns.exception
    import dns.message
    import dns.query
    import dns.rdatatype

    try:
        answer = dns.query.udp(dns.message.make_query(name, "A"), server, timeout=timeout_s)
    except (OSError, dns.exception.DNSException):
        return None
    return tuple(str(r) for found in answer.answer if found.rdtype == dns.rdatatype.A for r in found)
