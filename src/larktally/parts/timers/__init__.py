"""What counts frames: countdowns, cooldowns, stocks, intervals, chains, meters, stats, gates, animations, clocks."""
