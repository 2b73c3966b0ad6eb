"""What several steps need: places, room, volumes made anew, whole writes, comparing."""
