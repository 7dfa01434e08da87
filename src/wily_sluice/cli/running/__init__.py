"""Commands that run the gate and change its plan."""
