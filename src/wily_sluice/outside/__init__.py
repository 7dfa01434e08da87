"""What the core is handed by the world: files on a disk, and processes that run side by side.

`plan` and `forecast` open no file and start no process; who calls them from here does.
"""
