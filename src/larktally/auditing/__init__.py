"""What is found without a claim."""
