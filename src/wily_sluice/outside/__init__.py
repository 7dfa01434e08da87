"""The core's access to the outside world: files on disk, and parallel processes.

`plan` and `forecast` open no files and start no processes; their callers do that from here.
"""
