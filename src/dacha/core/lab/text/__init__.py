"""The lab file as text: the position of each key, and edits that keep comments, order and layout."""
