"""Figures, drawn with Matplotlib, which is imported only where one is asked for."""
