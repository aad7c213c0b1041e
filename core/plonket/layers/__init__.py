"""Kinds of layers that can lie in the stack; each module is one kind."""
