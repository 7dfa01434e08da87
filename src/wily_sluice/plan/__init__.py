"""The user's plan: the file, its model, its checks, and its compilation into engine objects."""
