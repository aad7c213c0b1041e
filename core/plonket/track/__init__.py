"""Measuring motion: points, planes, cameras, objects and forms, and where what follows them lies."""
