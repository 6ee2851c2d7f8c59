"""Actions, key codes, input scripts, and one frame's view of them."""
