"""The screens Trends, Versions, With fewer cells."""
