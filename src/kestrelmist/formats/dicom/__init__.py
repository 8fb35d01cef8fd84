"""DICOM: headers, series, frames, labels, and writing."""
