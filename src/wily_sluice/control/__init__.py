"""Between a gate and its users: the second process, the life of a plan, and the sockets."""
