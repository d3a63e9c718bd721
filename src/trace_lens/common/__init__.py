"""What every other part stands on: findings and their catalogue, differences, moments, limits, masking.

Nothing here reads a file other than the catalogue that ships with the package, and nothing here reads a clock.
"""
