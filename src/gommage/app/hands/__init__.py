"""Tools: what a pen does on the picture.

No Qt; each gesture is a generator that yields what is to be shown and returns an edit.
"""
