"""Logs that a game wrote, as traces, read through a small TOML mapping: tables, events, and lines of text.

The mapping says which column counts the frames or the time, the rate, and what the other columns are called here.
Nothing is guessed: frames that are missing, doubled or uneven are an error that names the line.
"""
