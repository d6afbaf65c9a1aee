"""Files in and out: pictures by extension, sidecars. Files appear whole or not at all."""
