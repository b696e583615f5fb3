"""The plan: addresses, subnets and doors derived from a lab."""
