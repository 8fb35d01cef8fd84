"""Tests: core against truth, the real interface driven with QTest, a real window under a virtual display."""
