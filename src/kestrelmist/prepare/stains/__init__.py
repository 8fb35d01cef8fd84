"""Colours and channels of sections, and the stains behind them."""
