"""Two traces side by side: where they part, by how much, and what moved; baselines."""
