<script lang="ts">
  import { ago, exactly } from '../lib/words';
  let { time }: { time: string } = $props();
</script>

<time datetime={time} title={exactly(time)} class="whitespace-nowrap">{ago(time)}</time>
