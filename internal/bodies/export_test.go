package bodies

// On has the volumes of a shelf use a disk each.
func (s *Shelf) On(disk func(dir string) Disk) {
	for _, v := range s.volumes {
		v.On(disk(v.dir))
	}
}
