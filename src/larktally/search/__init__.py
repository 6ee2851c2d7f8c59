"""Many runs of one scenario: other values, random presses, and the fewest that still break a claim."""
