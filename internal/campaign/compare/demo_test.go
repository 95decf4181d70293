package compare

import _ "zitherwheel/internal/demo/hillfold" // the game of the plans in these tests
