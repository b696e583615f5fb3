"""The tables of `lab.toml`, read into the lab's values."""
