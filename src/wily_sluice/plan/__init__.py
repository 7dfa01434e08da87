"""What the person wants: the plan file, its model, its checks, and its compilation into engine objects."""
