"""The simulated phone: films made-up miniature sets and writes footage with exact truth."""
