"""What the Linux kernel says of USB and serial ports, read from sysfs."""
