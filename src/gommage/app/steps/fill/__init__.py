"""The Fill step."""
