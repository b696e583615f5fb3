"""Hashes of passwords as the specification has them, and as `openssl passwd -6` makes them."""

import pytest

from dacha.formats.sha512_crypt import sha512_crypt

VECTORS = [
    ("Hello world!", "saltstring",
     "svn8UoSVapNtMuq1ukKS4tPQd8iKwSMHWjl/O817G3uBnIFNjnQJuesI68u4OTLiBFdcbYEdFCoEOfaS35inz1"),
    ("", "a",
     "Z6IPkDduHdwavesVY2NFMpOHkigshxPYdhfLg0D3A7/XFQcso9RV2E8qczyJ2su.dj6RRLaTpvgwN1rZfK0I9."),
    ("xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx", "ab",
     "jJ0JKpcKeTClUMLQxap/pY8XzZDlO4biLLovk8fVGLaE4t52bto0gyekQs9CufrDwjH.bpV74nlWd0KNS.pxj0"),
    ("tides and tides " * 9, "./0123456789ABCD",
     "BpyxVvYXdK4ebmuRBcqS8UaDX9dWYlQv6Gc4MymqJZstBkk0Tfghy7LxPAiVPON37Kn9Ot.ceuCnZDOiSJ6Dr."),
]  # fmt: skip


@pytest.mark.parametrize(("password", "salt", "hashed"), VECTORS)
def test_the_hash_is_the_one_that_every_linux_makes(password: str, salt: str, hashed: str) -> None:
    assert sha512_crypt(password.encode(), salt) == f"$6${salt}${hashed}"


@pytest.mark.parametrize("salt", ["", "x" * 17, "with space", "dollar$"])
def test_a_salt_has_its_form(salt: str) -> None:
    with pytest.raises(ValueError, match="a salt has"):
        sha512_crypt(b"x", salt)
