"""Compositing: pictures in linear premultiplied light, layers, rendering."""
