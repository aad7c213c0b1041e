"""Long work: jobs, their chunks, and the events that tell the browser."""
