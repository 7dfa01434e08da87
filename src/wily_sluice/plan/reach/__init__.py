"""What rules can reach, exactly: regions of all that conversations and packets can be; and quickly, among thousands."""
