"""Keyboard layouts of Windows: input locale and layout identifiers by the names that the lab file uses.

Sources: "[MS-LCID]: Windows Language Code Identifier Reference" and Microsoft's list of keyboard identifiers. The form
"LOCALE:LAYOUT", both hexadecimal, is that of the setting InputLocale.
"""

from __future__ import annotations

# A layout in a locale of the same number has that number with four zeros before it.
_OWN = """
bg=0402 cz=0405 dk=0406 de=0407 gr=0408 us=0409 es=040a fi=040b fr=040c il=040d hu=040e is=040f it=0410 jp=0411 kr=0412
nl=0413 no=0414 pl=0415 br=0416 ru=0419 hr=041a sk=041b al=041c se=041d th=041e tr=041f ua=0422 by=0423 si=0424 ee=0425
lv=0426 ir=0429 vn=042a am=042b mk=042f ge=0437 kz=043f mt=043a ch=0807 gb=0809 latam=080a be=080c pt=0816 ie=1809
"""
_OTHER = {
    "at": "0c07:00000407",
    "ca": "0c0c:00001009",
    "in": "0439:00010439",
    "lt": "0427:00010427",
    "ro": "0418:00010418",
    "rs": "281a:00000c1a",
}
INPUT_LOCALES = {
    **{name: f"{number}:0000{number}" for name, _, number in (word.partition("=") for word in _OWN.split())},
    **_OTHER,
}
