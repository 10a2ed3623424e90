"""Plain typed data and the few pure rules that belong to it. Imports nothing of Ovek."""
