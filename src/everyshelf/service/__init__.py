"""The Django project: one folder per capability, each with models, actions (the use cases), and a thin api."""
