"""The lab file as text: where each key stands, and edits that keep its comments, order and layout."""
