"""Time as devices live it: windows, firings and spread, each by the device's own clock."""
