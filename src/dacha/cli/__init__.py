"""The command line: arguments, text, tables. It decides nothing; only this package prints."""
