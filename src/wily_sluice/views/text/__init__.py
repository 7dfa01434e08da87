"""Parts of text that several views share: sentences, bars, the terminal."""
