"""What comes by itself: who asks and tells over the network."""
