"""The program that takes cells and executes them on its machine; it talks to the server over HTTP only."""
