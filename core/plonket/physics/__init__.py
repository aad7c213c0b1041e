"""Rigid bodies that fall, hit and come to rest."""
