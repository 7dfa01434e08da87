"""What makes the test captures and the demo's files, and fuzzes the recognisers. None of it is needed to run or to test."""
