"""A lab's links and rules in the kernel as plain values, and the effect of other programs' rules."""
