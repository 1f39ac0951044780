"""What a server's address is proved by."""

from __future__ import annotations

import ssl

import httpx


def certificates_for(address: str) -> ssl.SSLContext:
    """The trusted certificates for an https address; none for http, as to read them takes longer than most answers.

    A client with none is refused by every https address, so nothing is trusted by mistake.
    """
    return httpx.create_ssl_context() if address.startswith("https:") else ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
