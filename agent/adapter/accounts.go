package adapter

// passwords is what a password must be like, by pwquality (pam_pwquality reads it at the next change of a password).
func passwords(h *Host) Adapter {
	return &dropIn{h, "/etc/security/pwquality.conf.d/50-zridge.conf", lines(" = ", ""), []entry{
		{"accounts.password_length", "", "minlen", number(1, "", "")},
		{"accounts.password_complexity", "", "minclass", choice("anything", "0", "letters-and-digits", "2", "mixed-and-signs", "4")},
	}, nil}
}

// passwordAge is how old a password of a new account may be (shadow).
func passwordAge(h *Host) Adapter {
	return &shared{h, "/etc/login.defs", "\t", "", []entry{{"accounts.password_age_days", "", "PASS_MAX_DAYS", number(1, "", "")}}, nil}
}
