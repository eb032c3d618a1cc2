"""The tests of Lumet: python -m tests [MODULE …]"""
