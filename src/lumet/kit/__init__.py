"""The application's shared code, copied into every generated application.

It imports nothing of Lumet, and nothing of Lumet imports it: it is read as files.
"""
