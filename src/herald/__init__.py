"""The server of Brisk Herald: a Django project with one app a room."""
