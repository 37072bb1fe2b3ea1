"""The version, written here so that printing it needs no package metadata."""

VERSION = "0.1.0"
