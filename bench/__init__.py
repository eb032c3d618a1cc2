"""Measures, as ratios beside a floor in the same run: python -m bench"""
