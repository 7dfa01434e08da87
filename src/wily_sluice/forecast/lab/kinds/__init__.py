"""What applications do: each kind of traffic is a class with the figures of its source."""
