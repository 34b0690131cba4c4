package cli

// The engines that the program has. Each registers itself.
import (
	_ "jugatum/internal/engine/mariadb"
	_ "jugatum/internal/engine/postgres"
	_ "jugatum/internal/engine/sqlite"
)
