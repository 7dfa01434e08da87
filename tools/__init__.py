"""What makes the test captures and the demo's files, and fuzzes the recognizers. None of it is needed to run or to test."""
