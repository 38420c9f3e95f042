"""The picture: viewer, what it asks the engine for, what is drawn over it."""
