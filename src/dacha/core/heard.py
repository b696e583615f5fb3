"""What a service sent on a connection, as a kind that code compares; its text is for people."""

from __future__ import annotations

from enum import StrEnum


class Heard(StrEnum):
    """The kind of answer on one connection."""

    ANSWER = "an answer"  # what it was is in words beside it
    NOTHING = "no answer"  # nothing came in the time that was given
    MUTE = "accepts connections, but sends nothing"  # also after a time that is enough for a slow guest
    CLOSED = "closes at once"
    TURNED_AWAY = "closes after a message"
    REFUSED = "refuses"
    OTHER = "speaks another protocol"
    SERVER_ERROR = "an error of the server"  # HTTP: a status of the class 5xx (RFC 9110 section 15.6)
    RDP_OLD = "RDP, old security"  # the RDP Security Protocol (MS-RDPBCGR section 5.3)
    RDP_TLS = "RDP, TLS"
    RDP_NLA = "RDP, network level authentication"  # CredSSP (MS-CSSP)
