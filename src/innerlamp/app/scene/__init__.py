"""What every 3D view has, in a pane or off the screen: axes, corner marks, words that part, drawing quality, cameras."""
