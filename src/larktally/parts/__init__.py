"""What gameplay is modelled from: the sim and its parts."""
