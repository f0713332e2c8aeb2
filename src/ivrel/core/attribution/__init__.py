"""Attribution: which device a message is from, when it came, and which messages are wanted."""
