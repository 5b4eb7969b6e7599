package run

import (
	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
)

// stopped says of an error that ended a run on its way what is known of it.
func stopped(dev disk.Device, m *ran.Meta, c *carry.Carry, err error) error {
	return rehearse.Hurt(c.Former(dev), m.Before, err, true)
}
