"""Knowing the vehicle and planning what is made of it: readiness, limits, stages, ratings, sizing, cost."""
