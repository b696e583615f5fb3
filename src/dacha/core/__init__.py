"""The lab and what follows from it: no I/O, no interface, no third-party code.

In order of importance: `lab` (what a file describes), `read` (text to lab), `plan` (addresses and
doors), `check` (findings), `difference` (desired against observed, as ordered changes).
"""
