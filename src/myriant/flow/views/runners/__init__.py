"""The screen Runners, its queue, and what the server keeps."""
