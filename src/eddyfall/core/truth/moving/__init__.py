"""What light does at fixed places of the world while the camera moves: anchors, forecasts, what was measured, the verdict."""
