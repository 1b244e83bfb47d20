"""Tide Mill, the made-up production that ships with the application."""
