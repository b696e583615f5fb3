"""The way from outside, kept while its doors stand."""
