"""The Follow step."""
