"""What the demo animal is scanned and pictured by, one file each; every one registers itself."""
