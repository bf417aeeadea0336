package adapter

// screen is the lock screen and what leads to it, for everybody who signs in.
func screen(h *Host) Adapter {
	const session, saver, notifications, power = "org/gnome/desktop/session", "org/gnome/desktop/screensaver",
		"org/gnome/desktop/notifications",
		"org/gnome/settings-daemon/plugins/power"
	return desktopOf(h, "local", "user", []entry{
		{"screen.lock", saver, "lock-enabled", truth("true", "false")},
		{"screen.lock_after_minutes", session, "idle-delay", number(60, "uint32 ", "")},
		{"screen.password_after_seconds", saver, "lock-delay", number(1, "uint32 ", "")},
		{"screen.notifications_locked", notifications, "show-in-lock-screen", truth("true", "false")},
		{"power.sleep_battery_minutes", power, "sleep-inactive-battery-timeout", number(60, "", "")},
		{"power.sleep_plugged_minutes", power, "sleep-inactive-ac-timeout", number(60, "", "")},
		{"signin.switch_person", "org/gnome/desktop/lockdown", "disable-user-switching", truth("false", "true")},
		{"media.printing", "org/gnome/desktop/lockdown", "disable-printing", truth("false", "true")},
		{"screen.saver", saver, "idle-activation-enabled", truth("true", "false")},
		{"signin.card_removed", "org/gnome/settings-daemon/peripherals/smartcard", "removal-action",
			choice("nothing", "'none'", "lock", "'lock-screen'", "sign-out", "'force-logout'")},
		{"system.diagnostic_data", "org/gnome/desktop/privacy", "report-technical-problems", choice("all", "true", "nothing", "false")},
	})
}

// signInScreen is the screen on which people sign in (gdm).
func signInScreen(h *Host) Adapter {
	const login = "org/gnome/login-screen"
	return desktopOf(h, "gdm", "gdm", []entry{
		{"signin.hide_last_person", login, "disable-user-list", truth("true", "false")},
		{"signin.shut_down", login, "disable-restart-buttons", truth("false", "true")},
		{"signin.smart_card", login, "enable-smartcard-authentication", choice("allow", "true", "forbid", "false")},
		{"signin.fingerprint", login, "enable-fingerprint-authentication", truth("true", "false")},
	})
}
