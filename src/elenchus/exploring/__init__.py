"""Building a question with its answer in sight: sketches, what comes of them, what may be written next."""
