"""How the program stands up to kills, full disks, damaged and hostile files, and long use."""
