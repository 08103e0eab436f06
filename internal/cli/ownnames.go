package cli

import "slices"

func (c *call) profileNames() []string {
	library, err := c.Library()
	if err != nil {
		return nil
	}
	entries, _ := library.List()
	agreed := c.AgreedProfiles()
	var names []string
	for _, entry := range entries {
		if !entry.Project || slices.Contains(agreed, entry.Name) {
			names = append(names, entry.Name)
		}
	}
	return names
}
