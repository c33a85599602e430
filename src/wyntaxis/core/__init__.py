"""What Wyntaxis knows and computes; nothing in here imports an interface toolkit."""
