"""The demo project, made as a creator would."""
