"""The engines that approaches run on, one module each; see registry.py."""
