"""Protocols as pure codecs and state machines: bytes in, verdicts out, no sockets."""
