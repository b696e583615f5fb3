"""The plan: addresses, subnets and doors that follow from a lab."""
