"""Set-up and the commands behind ``./nomogon``; standard library only until the environment stands."""
