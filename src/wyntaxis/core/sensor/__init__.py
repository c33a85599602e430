"""The sensor on the bench: gain, noise, offset, dark current, cooling; frames and logs turned into measured legs."""
