"""The one door to what is run: the subject protocol, and an adapter for each kind of subject."""
