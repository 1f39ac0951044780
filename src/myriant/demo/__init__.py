"""The demo: repositories of Fenmark Waterways, a made-up canal and tide authority."""
