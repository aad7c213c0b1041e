"""Projects, assets, uploads and the shelf."""
