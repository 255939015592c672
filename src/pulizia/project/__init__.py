"""The model of a project, its file and its journal."""
