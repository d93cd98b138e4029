package disk

// nonblock is not needed: pipes have no names among files there.
const nonblock = 0
