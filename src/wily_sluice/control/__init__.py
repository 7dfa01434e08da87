"""What stands between a gate and people: the process beside it, the life of a plan, and the sockets to talk over."""
