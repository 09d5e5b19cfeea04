"""Bytes or edges in, frames out, and back. Nothing here opens a port, reads a clock or raises on bytes."""

from tenuto.protocols.lines import LineDecoder
from tenuto.protocols.pulses import PpmDecoder, PwmDecoder, encode_ppm, encode_pwm
from tenuto.protocols.radio.crsf import CrsfDecoder, encode_crsf_channels, encode_crsf_link
from tenuto.protocols.radio.decoder import ChannelFrame, Counts, Decoder
from tenuto.protocols.radio.ibus import IbusDecoder, encode_ibus
from tenuto.protocols.radio.sbus import SbusDecoder, encode_sbus

__all__ = [
    "ChannelFrame",
    "Counts",
    "CrsfDecoder",
    "Decoder",
    "IbusDecoder",
    "LineDecoder",
    "PpmDecoder",
    "PwmDecoder",
    "SbusDecoder",
    "encode_crsf_channels",
    "encode_crsf_link",
    "encode_ibus",
    "encode_ppm",
    "encode_pwm",
    "encode_sbus",
]
