"""Networks on the kernel: links, rules, and where guests are."""
