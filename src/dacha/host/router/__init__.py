"""Requests to the router."""
