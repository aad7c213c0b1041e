"""A simple form fitted to the picture by tugs and followed by what is seen on its surface."""
