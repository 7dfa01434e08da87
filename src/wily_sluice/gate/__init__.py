"""The live world around the engine: the kernel's packet queue, the event loop, and the rig of namespaces."""
