"""A hard trial: kills, damage, hostile files, planted words and two processes at once, over and over for as long as one
likes. `./kestrel trial [--minutes N]`."""
