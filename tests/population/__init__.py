"""Tests of made-up rows."""
