"""The Station workspace: a drawing of the station that is alive, its numbers, the scan budget, trial scans."""
