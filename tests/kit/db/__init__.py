"""Tests of the kit's package db."""
