"""The lamplighter: Wick, who lights the lamps along a canal at dusk."""
