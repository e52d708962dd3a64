"""Propellers by blade elements and momentum theory."""
