"""Second times: every command after every other on one lab, against a model of what must be there."""
