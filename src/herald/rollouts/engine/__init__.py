"""What happens as time passes, in the clock's process: turns, offers, audiences that move, what is found out later."""
