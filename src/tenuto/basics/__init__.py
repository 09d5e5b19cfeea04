"""What every other room builds on: numbers, frames, errors, reasons. It imports nothing of Tenuto."""
