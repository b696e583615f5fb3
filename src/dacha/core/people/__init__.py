"""People: whose keys a guest gets, what is wrong with what they may enter, and where they get in."""
