"""What every other room builds on: numbers, frames, errors, reasons. It imports nothing else of Tenuto."""
