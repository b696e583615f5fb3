"""The lab and what follows from it: no I/O, no interface, no third-party code.

In order of importance: `lab` (the contents of a file), `read` (text to lab), `plan` (addresses and doors), `check`
(findings), `difference` (desired against observed state, as ordered changes).
"""
