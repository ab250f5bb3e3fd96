"""Pages: what is on the screen put on paper by the same painters, in vectors."""
