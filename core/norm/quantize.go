package norm

import (
	"math"
	"time"
)

// The shortest and the longest round trip that the 8 bits of a grtt field tell.
const (
	rttMin = 1e-6 // seconds
	rttMax = 1000
)

// QuantizeRTT gives the 8 bits that tell a round trip time, rounded up (RFC 5401,
// section 4.2.1; RFC 5740, section 4.2.1).
func QuantizeRTT(d time.Duration) uint8 {
	rtt := min(max(d.Seconds(), rttMin), rttMax)
	if rtt < 33*rttMin {
		return uint8(rtt/rttMin) - 1
	}
	return uint8(math.Ceil(255 - 13*math.Log(rttMax/rtt)))
}

// UnquantizeRTT is the round trip time that these bits tell.
func UnquantizeRTT(q uint8) time.Duration {
	if q <= 31 {
		return seconds(float64(q+1) * rttMin)
	}
	return seconds(rttMax / math.Exp((255-float64(q))/13))
}

// QuantizeGroupSize gives the 4 bits that tell a group's size, rounded up: one of
// 10, 50, 100, 500 … 500,000,000.
func QuantizeGroupSize(n int) uint8 {
	for q := uint8(0); q < 8; q++ {
		if n <= UnquantizeGroupSize(q) {
			return q
		}
		if n <= UnquantizeGroupSize(q|8) {
			return q | 8
		}
	}
	return 15
}

// UnquantizeGroupSize is the size that these bits tell: the upper one chooses
// between 1 and 5, the others are the power of ten less one.
func UnquantizeGroupSize(q uint8) int {
	n := 10
	for range q & 7 {
		n *= 10
	}
	if q&8 != 0 {
		n *= 5
	}
	return n
}

// QuantizeRate gives the 16 bits that tell a rate in bytes a second: 12 bits of
// mantissa, in units of 10/4096, and 4 of a power of ten (section 4.2.3, cc_rate).
func QuantizeRate(r float64) uint16 {
	if r <= 0 || math.IsNaN(r) {
		return 0
	}
	exponent := min(max(math.Floor(math.Log10(r)), 0), 15)
	mantissa := math.Round(r / math.Pow(10, exponent) * 4096 / 10)
	return uint16(min(mantissa, 4095))<<4 | uint16(exponent)
}

// UnquantizeRate is the rate in bytes a second.
func UnquantizeRate(q uint16) float64 {
	return float64(q>>4) * 10 / 4096 * math.Pow(10, float64(q&15))
}

// QuantizeLoss gives the 16 bits of a share between 0 and 1.
func QuantizeLoss(share float64) uint16 { return uint16(min(max(share, 0), 1) * 65535) }

// UnquantizeLoss is the share.
func UnquantizeLoss(q uint16) float64 { return float64(q) / 65535 }
