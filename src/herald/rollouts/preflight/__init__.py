"""What a launch would mean for each device, and what is known of the images it would send."""
