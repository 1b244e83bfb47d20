"""Who is signed in."""

DEMO = "demo"  # its password is published; it may sign in on loopback only
