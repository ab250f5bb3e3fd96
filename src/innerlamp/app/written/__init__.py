"""The 3D scene off the screen: as pictures, films, one HTML file, and walk-throughs on paper."""
