# What the packets of Quayside carry, for zwheel why: bytes and direction in, a line of text out.
def decode(data, direction):
    words = str(data).split(" ")
    if direction == "up" and words[0] == "got":
        return "the answer to notice %s" % words[1]
    if direction == "down" and len(words) == 3:
        return "notice %s: ring %s, by %s" % (words[0], words[1], words[2])
    return None  # then its text is shown
