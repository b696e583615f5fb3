"""The kernel's part of a lab as plain values: links, rules, what others' rules do."""
