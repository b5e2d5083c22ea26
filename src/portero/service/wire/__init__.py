"""`/device/v1`: what endpoints speak, in plain ASGI before the framework, as there are many devices and few messages.

The messages are described in docs/reference/wire.md.
"""

from portero.service.wire.serving import DeviceWire

__all__ = ["DeviceWire"]
