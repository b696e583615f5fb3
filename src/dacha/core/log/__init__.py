"""Events of a lab, their texts, and the reasons why guests ended."""
