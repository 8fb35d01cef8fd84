"""Images, spaces, labels, quantities and operations: everything that knows neither files nor windows."""
