"""The outside world, simulated: engine, control unit, dyno, weather and sensors. No Qt.

Everything measured here is marked as simulated in its conditions, and stays so marked into every sheet.
"""
