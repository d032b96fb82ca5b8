package volume

// IgnoreChecksums lets fuzz tests reach what lies behind checksums.
func IgnoreChecksums() { checksumsMatter = false }
