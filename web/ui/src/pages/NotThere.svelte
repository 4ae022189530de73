<script lang="ts">
  import { route } from '../router';
</script>

<div class="head"><h1>Nothing is here</h1></div>
<p class="sec">
  {route.pathname} leads nowhere. It may have been mistyped, or what it led to was removed. <a href="/">Go to Today</a>
</p>
