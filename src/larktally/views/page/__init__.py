"""The page: a run, or two, as something to look at in a browser, live or as one file that stands alone."""
