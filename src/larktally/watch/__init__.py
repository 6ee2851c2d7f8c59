"""Watching a file: it is run again at each save, and the new run is shown over the old one, played, and kept."""
