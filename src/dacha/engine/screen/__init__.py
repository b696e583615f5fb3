"""The display of a guest: in a browser, and its stored password."""
