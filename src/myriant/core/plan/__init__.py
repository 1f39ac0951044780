"""Reading and checking test plans: values, places, problems and selectors."""
