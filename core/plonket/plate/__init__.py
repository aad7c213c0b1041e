"""The plate: the footage itself, steadied and treated before anything is stacked on it."""
