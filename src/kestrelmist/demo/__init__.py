"""The made-up study and its known truth: one digital hazel dormouse, scanned."""
