"""A scenario led through its frames: recording, a run with its objects in hand, and who runs many of them."""
