"""Live devices: how they are reached, gathered from and delivered to."""
