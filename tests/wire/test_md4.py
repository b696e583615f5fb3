"""MD4 by the vectors of RFC 1320, appendix A.5, and a password's hash by that of MS-NLMP section 4.2.2.1.2."""

import pytest

from dacha.wire.md4 import md4, password_hash

VECTORS = {
    "": "31d6cfe0d16ae931b73c59d7e0c089c0",
    "a": "bde52cb31de33e46245e05fbdbd6fb24",
    "abc": "a448017aaf21d8525fc10ae87aa6729d",
    "message digest": "d9130a8164549fe818874806e1c7014b",
    "abcdefghijklmnopqrstuvwxyz": "d79e1c308aa5bbcdeea8ed63df412da9",
    "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789": "043f8582f241db351ce627e153e7f0e4",
    "1234567890" * 8: "e33b4ddc9c38f2199c3e7b164fcc0536",
}


@pytest.mark.parametrize("text", VECTORS)
def test_the_specifications_vectors(text: str) -> None:
    assert md4(text.encode()).hex() == VECTORS[text]


def test_a_passwords_hash_is_that_of_its_specification() -> None:
    assert password_hash("Password") == "A4F49C406510BDCAB6824EE7C30FD852"
