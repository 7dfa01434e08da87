"""Problems of a machine, by subject."""
