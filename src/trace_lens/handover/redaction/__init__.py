"""Copies that can leave the house: what is secret or tells of people replaced, what breaks kept."""
