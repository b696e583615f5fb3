"""The protocols of routers that lead ports in."""
