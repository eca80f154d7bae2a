"""Jobs: long work with a lease, progress, cancel and take-over; and the events the page listens to."""
